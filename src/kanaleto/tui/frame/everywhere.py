"""What can be done from everywhere."""

from kanaleto.tui.shared.actions import Action

EVERYWHERE = (
    Action("r", "scratch", "scratch reading", "a scratch reading: some registers of any unit, without a map"),
    Action("slash", "filter", "filter", "filter what is shown; escape clears it", shown="/"),
    Action("space", "hold", "hold or resume polling"),
    Action(
        "u", "lock", "unlock or lock writing", "unlock writing for the device in view, pressed twice for the site; lock"
    ),
    Action(
        "n", "count", "count as the manual or the wire does", "count addresses as the manual does, or as the wire does"
    ),
    Action(
        "ctrl+p",
        "find",
        "find an action",
        "find any action by name: ask now, reconnect, switch off, save what was learned, …",
        is_found=False,
    ),
    Action("R", "record", "begin or end recording", "begin recording samples, or end it: the site's own record"),
    Action("L", "lanes", "hide or show the lanes"),
    Action("E", "events", "error log", "the error log: what happened, and when it was over"),
    Action("H", "acting", "what acts now", "what is held, pulsing, owed or running; one key ends all of it"),
    Action(
        "J", "join", "read through a service", "read lines whose port a service of Kanaleto has through it; again: back"
    ),
    Action("", "past", "past a limit: what it is, since when, who has seen it"),
    Action("question_mark", "keys", "all keys", "these keys", shown="?"),
    Action("ctrl+z", "undo", "undo", "undo an edit of the site, do it again", shown="ctrl+z  ctrl+y"),
    Action("ctrl+y", "redo", "redo", "undo an edit of the site, do it again", shown="ctrl+z  ctrl+y"),
    Action(
        "ctrl+s",
        "save_as",
        "save the site as",
        "save the site as a file of your own, begin a new one",
        shown="ctrl+s  ctrl+n",
    ),
    Action(
        "ctrl+n", "new_site", "new site", "save the site as a file of your own, begin a new one", shown="ctrl+s  ctrl+n"
    ),
    Action("escape", "leave", "go back", is_found=False),
    Action("", "same_points", "the same points: renamed ones keep their series"),
    Action("", "note", "write a note into the journal"),
    Action("", "cycle", "one cycle: ask every block once, held or not"),
    Action("", "reset_counts", "reset the counts of every device"),
    Action("", "save_lessons", "save what was learned to the site file"),
    Action("", "theme", "change theme: lagoon (dark) or fresco (light)"),
    Action("q,ctrl+q", "quit", "quit", "quit; a site that was never saved is kept and offered again"),
)

UNLESS_TAKEN = (
    Action("m", "moved", "what moved", "what moved: from now on, points ranked by how much they change"),
    Action("less_than_sign", "lanes_by(-1)", "lanes earlier", "the lanes by the minute, hours and days back", "< >"),
    Action("greater_than_sign", "lanes_by(1)", "lanes later", "the lanes by the minute, hours and days back", "< >"),
    Action("g", "go_live", "go live", "all views follow what is read now"),
    Action("K", "take_up", "take it up again", "what was kept alive until its device was away: take it up again"),
)
"""The same, but for a view that has another use for the key."""
