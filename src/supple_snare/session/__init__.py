"""The document: an immutable session, the stages that follow from it, history, storage, hand-over. No Qt."""
