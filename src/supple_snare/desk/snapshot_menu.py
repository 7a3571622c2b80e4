"""Snapshots in the menu: keep one, go to and fro between it and the present, take it back, forget it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QInputDialog, QMenu, QWidget

from supple_snare.desk.workspace import Workspace
from supple_snare.session.library import unused_name
from supple_snare.session.snapshots import drop_snapshot, exchange_snapshot, keep_snapshot, take_snapshot


def fill_snapshots(menu: QMenu, work: Workspace, parent: QWidget) -> None:
    """What can be done with snapshots now."""
    menu.clear()
    menu.addAction("Keep the present as a snapshot …", lambda: ask_name(work, parent))
    for snapshot in reversed(work.session.snapshots):
        name = snapshot.name
        each = menu.addMenu(name)
        assert each is not None
        each.addAction("Exchange with the present", lambda n=name: exchange(work, n))
        each.addAction("Take it back", lambda n=name: work.do(f"Take back “{n}”", take_snapshot(work.session, n)))
        behind = each.addAction("Lay it behind on the page", lambda n=name: lay_behind(work, n))
        assert behind is not None
        behind.setCheckable(True)
        behind.setChecked(work.looks.behind == name)
        each.addAction("Forget it", lambda n=name: work.do(f"Forget “{n}”", drop_snapshot(work.session, n)))


def ask_name(work: Workspace, parent: QWidget) -> None:
    """Ask for a name and keep the present under it."""
    usual = unused_name("Snapshot", [snapshot.name for snapshot in work.session.snapshots])
    name, given = QInputDialog.getText(parent, "Keep a snapshot", "Name of the snapshot:", text=usual)
    if given and name.strip():
        work.do(f"Keep “{name.strip()}”", keep_snapshot(work.session, name.strip()))


def exchange(work: Workspace, name: str) -> None:
    """Go to the snapshot; once more goes back."""
    work.do(f"Exchange with “{name}”", exchange_snapshot(work.session, name))


def lay_behind(work: Workspace, name: str) -> None:
    """Show its version pale behind the present one, in place of as played; once more takes it away."""
    work.look(behind="" if work.looks.behind == name else name)


def with_newest(work: Workspace, act: Callable[[Workspace, str], None]) -> None:
    """Do something with the one kept last; says so if there is none."""
    if not work.session.snapshots:
        work.tell("There is no snapshot yet: keep one in the Edit menu.")
        return
    act(work, work.session.snapshots[-1].name)
