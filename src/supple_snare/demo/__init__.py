"""The demo take: the Lantern Quay street band rehearses its "Dockside March" in a boathouse, and how it was made."""
