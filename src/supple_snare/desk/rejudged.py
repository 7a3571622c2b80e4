"""Says once which hits a newer version of the program judges otherwise than when the session was last open."""

from __future__ import annotations

from functools import partial

from supple_snare.desk import theme
from supple_snare.desk.hit_tools import choose_hit
from supple_snare.desk.message_bar import MessageBar
from supple_snare.desk.workspace import Workspace
from supple_snare.session.judged import Judged, Rejudged, as_before, asked_of, judged_of, settle_judged


class RejudgedNotice:
    """Holds what is judged now against what stands beside the session, as soon as its groups are listened to.

    Parameters
    ----------
    workspace : Workspace
    message : MessageBar
    """

    def __init__(self, workspace: Workspace, message: MessageBar) -> None:
        self._work, self._message = workspace, message
        self._settled: dict[tuple[object, str], str] = {}
        workspace.stages_changed.connect(self._look)
        workspace.saved_changed.connect(self._look)
        workspace.opened.connect(self._settled.clear)

    def _look(self) -> None:
        """Have all groups compared that were not yet, or are asked for otherwise than before."""
        work, folder = self._work, self._work.folder
        now: dict[str, Judged] = {}
        if folder is None:
            return
        for group in work.session.groups:
            asked = asked_of(work.session, group)
            if group.part or self._settled.get((folder, group.key)) == asked:
                continue
            verdicts = work.stages.verdicts_of(work.session, group)
            if verdicts is not None and all(track.known_by for track in work.session.tracks_of(group)):
                self._settled[folder, group.key] = asked
                now[group.key] = judged_of(asked, verdicts)
        if now:
            compare = partial(settle_judged, folder, now)
            work.jobs.submit("", lambda _progress: compare(), self._tell, _ignore)

    def _tell(self, found: Rejudged) -> None:
        places = found.places
        if not places:
            return
        count = theme.counted(len(places), "hit")
        be = "is" if len(places) == 1 else "are"
        words = f"{count} {be} judged differently than when this session was last open (in {self._names(found)})."
        look = ("Look at them", "Ring them in the chart; D goes from one to the next", lambda: self._show(found))
        keep = ("Keep as they were", "Correct them by hand, in one step that can be undone", lambda: self._keep(found))
        self._message.say(words, False, [look, keep])

    def _names(self, found: Rejudged) -> str:
        keys = dict.fromkeys(key for key, _time_s in found.places)
        return theme.listed([track.name for track in self._work.session.tracks if track.key in keys])

    def _show(self, found: Rejudged) -> None:
        self._message.hide()
        work, places = self._work, found.places
        work.look(step="hits", rejudged=places)
        choose_hit(work, *places[0])

    def _keep(self, found: Rejudged) -> None:
        self._message.hide()
        self._work.do("Keep hits as they were judged", as_before(self._work.session, found))


def _ignore(_error: Exception) -> None:
    """A folder that cannot be written is told of where the session is saved."""
