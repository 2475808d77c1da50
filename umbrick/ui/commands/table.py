"""Every command of the bench, in the order of the menus."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from umbrick.core.survey.finding import State
from umbrick.playback.programme import Hearing
from umbrick.ui.bench.viewing import LEVEL_STEP
from umbrick.ui.commands.areas import area_commands, spectral_commands
from umbrick.ui.commands.command import Command, always
from umbrick.ui.commands.course import course_commands
from umbrick.ui.commands.hand import hand_commands, selection_commands
from umbrick.ui.commands.lanes import lane_commands, picture_commands
from umbrick.ui.commands.regimens import regimen_commands
from umbrick.ui.controllers import Controllers
from umbrick.ui.dialogs.all_dialogs import AllDialogs
from umbrick.ui.hand.levelling import Levelling
from umbrick.ui.hand.strengthening import Strengthening
from umbrick.ui.strips.strip import ZOOM_STEP

_CANDIDATES = 5
"""Of candidates, and of seams that the desk proposes."""


class WindowDoings(Protocol):
    """What the window does for commands that change the window itself."""

    def open_demo(self) -> None: ...
    def close_recording(self) -> None: ...
    def is_round_trip(self) -> bool: ...
    def close(self) -> object: ...
    def show_keys(self) -> None: ...
    def show_about(self) -> None: ...
    def show_guide(self) -> None: ...
    def find_command(self) -> None: ...
    def toggle_docket(self) -> None: ...
    def toggle_treatment(self) -> None: ...
    def toggle_course(self) -> None: ...
    def ask_course_room(self) -> None: ...
    def toggle_settings(self) -> None: ...
    def show_settings_of_mend(self) -> None: ...
    def toggle_ledger(self) -> None: ...
    def is_ledger_open(self) -> bool: ...
    def toggle_dusk(self) -> None: ...
    def is_dusk(self) -> bool: ...
    def ask_sound(self) -> None: ...
    def focus_search(self) -> None: ...
    def toggle_review(self) -> None: ...
    def fit_spectrum(self) -> None: ...


def command_table(controllers: Controllers, dialogs: AllDialogs, window: WindowDoings) -> list[Command]:
    """Return the table."""
    c = controllers
    bench, tools, mending, lifting = c.bench, c.tools, c.mending, c.lifting
    surveying, viewing, listening, marking = c.surveying, c.viewing, c.listening, c.marking
    coursing, strengthening, saving, putting_back = c.coursing, c.strengthening, c.saving, c.putting_back
    files, mends = dialogs.files, dialogs.mends
    seaming, levelling = tools.seaming, tools.levelling

    def nothing_open() -> str:
        return "" if bench.work else "Open a recording first (Ctrl+O)."

    def no_findings() -> str:
        if not bench.work or not bench.work.survey:
            return nothing_open() or "Survey first (F5)."
        return "" if len(bench.work.listing().open_rows) else "There is no open finding left."

    def no_focus() -> str:
        return "" if tools.held is not None else mending.reason_not_to_mend()

    def mend() -> None:
        if (held := tools.held) is not None:
            held.take()
        else:
            mending.mend()

    def reopen() -> None:
        if work := bench.work:
            seaming.open_entry(work, lifting.entries()[0])

    def undo() -> None:
        tools.drawing.end()
        bench.undo()

    def step(frames: int) -> Callable[[], None]:
        """Slide what is being tried, or move the cursor."""

        def run() -> None:
            if (held := tools.held) is not None:
                held.slide(frames)
            else:
                bench.step_cursor(frames)

        return run

    def choose(index: int) -> Callable[[], None]:
        return lambda: held.pick(index) if (held := tools.held) is not None else mending.choose(index)

    def no_desk() -> str:
        return "" if seaming.desk is not None else "Open the seam desk first (W)."

    def can_stop() -> str:
        return "" if c.can_stop else "Nothing is under way."

    def close() -> None:
        window.close()

    def line_with_node() -> Levelling | Strengthening | None:
        lines = (line for line in (strengthening, levelling) if line.is_shown and line.chosen is not None)
        return next(lines, None)

    def delete() -> None:
        if (line := line_with_node()) is not None:
            line.delete_node()
        else:
            lifting.lift_off()

    def nothing_to_delete() -> str:
        return "" if line_with_node() is not None else nothing_chosen()

    def not_selected() -> str:
        work = bench.work
        return nothing_open() or ("" if work and work.place() else "Select something first: drag, or type it (G).")

    def scrub(direction: int, crawls: bool) -> Callable[[], None]:
        return lambda: listening.scrub_by_key(direction, crawls)

    def play_from_pointer() -> None:
        if work := bench.work:
            listening.play_from(work.cursor if viewing.pointer is None else viewing.pointer)

    def not_keepable() -> str:
        work = bench.work
        if work is None or work.focus is None:
            return "Choose a finding first (N goes to the next)."
        state = work.state_of(work.focus)
        return "" if state is State.OPEN else f"This finding is {state.value} already."

    def no_markers() -> str:
        return nothing_open() or ("" if marking.placed() else "There is no marker yet (T sets one).")

    def no_marker() -> str:
        return no_markers() or ("" if marking.marker() else "Choose a marker first: click its flag, or step to it.")

    def no_finding() -> str:
        return "" if bench.work and bench.work.focus else "Choose a finding first (N goes to the next)."

    def set_marker() -> None:
        if work := bench.work:
            heard = listening.heard
            marking.set_marker(work.cursor if heard is None else heard)

    def nothing_chosen() -> str:
        return nothing_open() or ("" if lifting.chosen else "Choose mends in the ledger first (F6).")

    def not_restorable() -> str:
        return no_selection() or (
            "" if bench.work and bench.work.history.mend_count else "Nothing has been changed yet."
        )

    def nothing_to_undo() -> str:
        return "" if bench.work and bench.work.history.undo_title else "There is nothing to undo."

    def nothing_to_redo() -> str:
        return "" if bench.work and bench.work.history.redo_title else "There is nothing to redo."

    def no_offer(index: int) -> Callable[[], str]:
        def reason() -> str:
            if (held := tools.held) is not None:
                return "" if index < held.proposals_count else "Nothing of this number is proposed."
            offers = mending.offers
            return "" if offers and index < len(offers.offers) else "No candidate of this number is on offer."

        return reason

    def surveying_now() -> str:
        return nothing_open() or ("A survey is under way (Esc stops it)." if surveying.job else "")

    def nothing_surveyed() -> str:
        return nothing_open() or ("" if bench.work and bench.work.survey else "Survey first (F5).")

    def not_surveyable() -> str:
        return nothing_surveyed() or no_selection() or surveying_now()

    def no_parts() -> str:
        return "" if tools.reviewing.parts else "Open the level review first (F4)."

    def saving_now() -> str:
        return nothing_open() or ("A file is being written." if saving.job else "")

    def reporting_now() -> str:
        return nothing_open() or ("Other work is under way (Esc stops it)." if c.job_title else "")

    def zoom_passage(factor: float) -> Callable[[], None]:
        def run() -> None:
            if work := bench.work:
                shown = work.passage.start <= work.cursor < work.passage.stop
                bench.zoom_passage(factor, work.cursor if shown else (work.passage.start + work.passage.stop) / 2)

        return run

    def zoom_loupe(factor: float) -> Callable[[], None]:
        def run() -> None:
            if work := bench.work:
                bench.zoom_loupe(factor, (work.loupe.start + work.loupe.stop) / 2)

        return run

    def scroll(share: float) -> Callable[[], None]:
        def run() -> None:
            if work := bench.work:
                bench.set_passage(work.passage.scrolled(share * work.passage.length, work.frames))

        return run

    def go_to(frame: Callable[[], int]) -> Callable[[], None]:
        def run() -> None:
            bench.set_cursor(frame())
            if work := bench.work:
                bench.set_passage(work.passage.showing(work.cursor, work.cursor, work.frames, margin=0.0))

        return run

    def show_all() -> None:
        if work := bench.work:
            bench.zoom_passage(1e9, work.cursor)

    def show_selection() -> None:
        work = bench.work
        if work and work.selection:
            start, stop = work.selection.span
            bench.set_passage(type(work.passage)(start, stop))

    def no_selection() -> str:
        return (
            "" if bench.work and bench.work.selection else "Select something first: drag in the Passage or the Loupe."
        )

    def not_magnified() -> str:
        magnified = bench.work is not None and bench.work.magnified > 1.0
        return nothing_open() or ("" if magnified else "Levels are not magnified.")

    def next_channel() -> None:
        if work := bench.work:
            bench.set_channel((work.channel + 1) % work.channels)

    def one_channel() -> str:
        return nothing_open() or ("" if bench.work and bench.work.channels > 1 else "The recording has one channel.")

    def toggle_follow() -> None:
        viewing.follows = not viewing.follows

    def start() -> int:
        return 0

    def end() -> int:
        return bench.work.frames if bench.work else 0

    return [
        Command("open", "&Recording", "Open…", "Open recordings from files", files.ask_open, ("Ctrl+O",)),
        Command("demo", "&Recording", "Open the demo", "Open the demo recordings", window.open_demo),
        Command("save", "&Recording", "Save a copy…", "Save the mended recording as a file", files.ask_save,
                ("Ctrl+S",), saving_now, separated=True),
        Command("save_selection", "&Recording", "Save the selection…", "Save the selection as a file of its own",
                files.ask_save_selection, ("Ctrl+Alt+S",), lambda: saving_now() or no_selection()),
        Command("put_back", "&Recording", "Put back in place and close" if window.is_round_trip() else "Put back in place",
                "Put the mended sound in place of the recording's file, in one step; the old file is kept",
                putting_back.put_back, ("F2",), putting_back.reason_against),
        Command("bring_back", "&Recording", "Bring the old file back", "Put the kept old file back in its place",
                putting_back.bring_back, (), putting_back.reason_not_to_bring_back),
        Command("report", "&Recording", "Report", "Write what was found and done as a page beside the recording",
                files.write_report, ("Ctrl+R",), reporting_now),
        Command("report_as", "&Recording", "Report as…", "Write what was found and done as a page, a table or JSON",
                files.ask_report, ("Ctrl+Shift+R",), reporting_now),
        Command("name_casebook", "&Recording", "Save casebook as…",
                "Keep findings, mends and undo of all open recordings in one file of your choice",
                files.ask_name_casebook, ("Ctrl+Shift+S",), nothing_open),
        Command("close", "&Recording", "Close", "Take this recording off the bench", window.close_recording,
                ("Ctrl+W",), nothing_open),
        Command("quit", "&Recording", "Quit", "Close Umbrick", close, ("Ctrl+Q",), separated=True),
        Command("undo", "&Edit", "Undo", "Take back the last step", undo, ("Ctrl+Z",), nothing_to_undo, icon="undo-2",
                now=lambda: (bench.work.history.undo_title or "") if bench.work else ""),
        Command("redo", "&Edit", "Redo", "Bring back what was undone", bench.redo, ("Ctrl+Shift+Z",),
                nothing_to_redo, icon="redo-2",
                now=lambda: (bench.work.history.redo_title or "") if bench.work else ""),
        Command("restore", "&Edit", "Restore the original here", "Bring back the original in the selection",
                lifting.restore_selection, ("Ctrl+Backspace",), not_restorable, separated=True),
        Command("switch", "&Edit", "Switch the chosen mends", "Switch the mends chosen in the ledger off, or on again",
                lifting.switch, ("X",), nothing_chosen),
        Command("settings", "&Edit", "Settings of the chosen mend", "Compute the mend chosen in the ledger again, with other settings",
                window.show_settings_of_mend, ("E",), lifting.reason_not_to_change),
        Command("reopen_seam", "&Edit", "Seam desk of the chosen splice", "Lay a splice made earlier on the seam desk again",
                reopen, ("Shift+W",), lifting.reason_not_to_reopen),
        Command("lift_off", "&Edit", "Lift off the chosen mends", "Take the mends chosen in the ledger out, as if they had never been made",
                delete, ("Del",), nothing_to_delete),
        *selection_commands(bench, tools, dialogs.hand),
        *hand_commands(bench, tools, dialogs.hand),
        *area_commands(bench, c.outlining, viewing.spectral, c.lifting_out, dialogs.areas),
        *lane_commands(bench, c.linking, c.channel_lanes, dialogs.lanes),
        *picture_commands(bench, c.picturing),
        *regimen_commands(bench, c.regimens, dialogs.regimens),
        Command("zoom_in", "&View", "Zoom in (Passage)", "Zoom the Passage in about the cursor",
                zoom_passage(1 / ZOOM_STEP**2), ("+", "="), nothing_open),
        Command("zoom_out", "&View", "Zoom out (Passage)", "Zoom the Passage out about the cursor",
                zoom_passage(ZOOM_STEP**2), ("-",), nothing_open),
        Command("show_all", "&View", "Passage: everything", "Show the whole recording in the Passage", show_all, ("0",),
                nothing_open),
        Command("show_selection", "&View", "Passage: the selection", "Fill the Passage with the selection", show_selection,
                ("S",), no_selection),
        Command("scroll_left", "&View", "Passage: earlier", "Move the Passage back", scroll(-0.5), ("PgUp",), nothing_open),
        Command("scroll_right", "&View", "Passage: later", "Move the Passage on", scroll(0.5), ("PgDown",), nothing_open),
        Command("taller", "&View", "Magnify levels (Passage)", "Draw quiet sound taller in the Passage; what is louder runs out of it",
                lambda: viewing.magnify(LEVEL_STEP), ("Ctrl+PgUp",), nothing_open, separated=True),
        Command("flatter", "&View", "Reduce levels (Passage)", "Draw the Passage's waveform less tall",
                lambda: viewing.magnify(1 / LEVEL_STEP), ("Ctrl+PgDown",), not_magnified),
        Command("fit_levels", "&View", "Fit levels to what is in view", "Magnify the Passage so that its loudest sample in view just fits",
                viewing.fit_wanted.emit, ("Alt+0",), nothing_open),
        *spectral_commands(bench, viewing.spectral, window.fit_spectrum),
        Command("loupe_in", "&View", "Zoom in (Loupe)", "Show fewer samples in the Loupe", zoom_loupe(1 / ZOOM_STEP**2),
                ("Ctrl++", "Ctrl+="), nothing_open, separated=True),
        Command("loupe_out", "&View", "Zoom out (Loupe)", "Show more samples in the Loupe", zoom_loupe(ZOOM_STEP**2),
                ("Ctrl+-",), nothing_open),
        Command("channel", "&View", "Loupe: next channel", "Show the next channel in the Loupe", next_channel, ("C",),
                one_channel),
        Command("start", "&View", "Cursor to the start", "Go to the first sample", go_to(start), ("Home",), nothing_open,
                separated=True),
        Command("end", "&View", "Cursor to the end", "Go to the end", go_to(end), ("End",), nothing_open),
        Command("step_left", "&View", "Cursor one sample back", "Move the cursor by a sample",
                step(-1), ("Left",), nothing_open),
        Command("step_right", "&View", "Cursor one sample on", "Move the cursor by a sample",
                step(1), ("Right",), nothing_open),
        Command("step_left_10", "&View", "Cursor ten samples back", "Move the cursor by ten samples",
                step(-10), ("Shift+Left",), nothing_open),
        Command("step_right_10", "&View", "Cursor ten samples on", "Move the cursor by ten samples",
                step(10), ("Shift+Right",), nothing_open),
        Command("match_left", "&View", "Seam desk: match before", "Slide to the matching zero crossing before",
                lambda: seaming.slide_to_match(-1), ("Ctrl+Left",), no_desk),
        Command("match_right", "&View", "Seam desk: next match", "Slide to the next matching zero crossing",
                lambda: seaming.slide_to_match(1), ("Ctrl+Right",), no_desk),
        Command("ledger", "&View", "Ledger", "Open or shut the list of all mends", window.toggle_ledger, ("F6",),
                nothing_open, window.is_ledger_open, separated=True),
        Command("docket", "&View", "Docket", "Show or hide the docket", window.toggle_docket, ("F7",)),
        Command("treatment", "&View", "Treatment", "Show or hide the treatment panel", window.toggle_treatment, ("F8",)),
        Command("dusk", "&View", "Dusk", "Dark colours for a dark room", window.toggle_dusk, ("F9",),
                checked=window.is_dusk),
        Command("survey", "&Survey", "Survey", "Measure the recording and list its faults", surveying.start, ("F5",),
                surveying_now),
        Command("survey_selection", "&Survey", "Survey the selection", "Measure just the selection again",
                surveying.start_selection, ("Shift+F5",), not_surveyable),
        Command("first_look", "&Survey", "First look…",
                "Draft a treatment of all of it: each step with its reason, switched and heard before anything is done",
                c.looking.start, ("Ctrl+F5",), c.looking.reason_against),
        Command("next", "&Survey", "Next finding", "Go to the next open finding, or the next few that belong together",
                lambda: bench.focus_neighbour(1), ("N",), no_findings, separated=True),
        Command("previous", "&Survey", "Previous finding", "Go to the open finding before, or the few that belong together",
                lambda: bench.focus_neighbour(-1), ("Shift+N",), no_findings),
        Command("next_single", "&Survey", "Next single finding", "Go to the next open finding, also within a group",
                lambda: bench.focus_neighbour(1, singly=True), ("Alt+N",), no_findings),
        Command("previous_single", "&Survey", "Previous single finding", "Go to the open finding before, also within a group",
                lambda: bench.focus_neighbour(-1, singly=True), ("Alt+Shift+N",), no_findings),
        Command("next_kind", "&Survey", "Next kind", "Go to the first open finding of the next kind",
                bench.focus_next_kind, ("Ctrl+N",), no_findings),
        Command("arrival", "&Survey", "Listen on arrival", "Play half a second before each finding one comes to",
                lambda: listening.set_listens_on_arrival(not listening.listens_on_arrival), ("Ctrl+Shift+N",), always,
                lambda: listening.listens_on_arrival),
        Command("show_only", "&Survey", "Show only…", "Sift the docket by words, state or confidence",
                window.focus_search, ("Ctrl+F",), nothing_surveyed, separated=True),
        Command("worst_first", "&Survey", "Worst first", "List the worst findings of each kind first, not the earliest",
                lambda: bench.set_worst_first(not bench.worst_first), ("Ctrl+J",), nothing_surveyed, lambda: bench.worst_first),
        Command("review", "&Survey", "Level review", "The recording's parts side by side: too quiet, too loud, sticking out",
                window.toggle_review, ("F4",), nothing_open, lambda: tools.reviewing.is_open, separated=True),
        Command("next_part", "&Survey", "Next part to level", "Go to the next part that is far from the others",
                tools.reviewing.next_remarkable, ("Shift+F4",), no_parts),
        Command("level_part", "&Survey", "Level the part", "Change the chosen part's level by what is proposed, with ramps",
                tools.reviewing.level, ("Ctrl+Enter", "Ctrl+Return"), tools.reviewing.reason_not_to_level),
        Command("review_out", "&Survey", "Write the level review…", "Write the parts as a table of notes with times",
                files.ask_review_out, (), no_parts),
        Command("findings_out", "&Survey", "Write the findings…", "Write what the docket shows as a table (CSV) or JSON",
                files.ask_findings_out, (), nothing_surveyed, separated=True),
        Command("mark_findings", "&Survey", "Findings to markers",
                "Set a marker on everything the docket shows; markers go out as CSV and as cue points",
                marking.mark_findings, (), nothing_surveyed),
        Command("mend", "&Mend", "Mend", "Apply the chosen candidate and go to the next finding", mend,
                ("Enter", "Return"), no_focus),
        Command("offer_mends", "&Mend", "Mends for the selection",
                "Offer fillings for what is selected, though nothing was found there: bridges, donors, closing up",
                mending.offer_for_selection, ("Ctrl+B",), no_selection),
        Command("adjust", "&Mend", "Settings of the candidate", "Show what the chosen candidate is made with; what is typed computes it again",
                window.toggle_settings, ("Shift+E",),
                mending.reason_not_to_adjust, lambda: mending.shows_settings),
        Command("rehearse", "&Mend", "Which works best here?",
                "Plant this fault where the recording is clean, mend it in every way, and compare with what was there",
                c.rehearsing.start, ("Ctrl+Shift+B",), c.rehearsing.reason_against),
        Command("keep", "&Mend", "Keep", "Leave this finding as it is, on purpose", bench.keep, ("K",), not_keepable),
        Command("mend_all", "&Mend", "Mend all like this…", "Mend all open findings of this kind, with exceptions",
                mends.ask_mend_all, ("Shift+Enter", "Shift+Return"), no_findings),
        Command("mend_family", "&Mend", "Mend all of this family…",
                "Mend all open findings of this kind and its kin at once, such as clicks with crackle, with exceptions",
                lambda: mends.ask_mend_all(with_family=True), ("Ctrl+Shift+Enter", "Ctrl+Shift+Return"), no_findings),
        *(
            Command(f"candidate_{index + 1}", "&Mend", f"Candidate {index + 1}", "Show and hear this candidate",
                    choose(index), (str(index + 1),), no_offer(index), separated=index == 0)
            for index in range(_CANDIDATES)
        ),
        Command("stop", "&Mend", "Stop", "Stop the work that is under way, or leave what is being tried", c.stop,
                ("Esc",), can_stop, separated=True),
        *course_commands(coursing, strengthening, c.rehearsing_noise, c.settling, window.toggle_course, window.ask_course_room),
        Command("set_marker", "Mar&kers", "Set a marker", "Mark the selection, the playhead or the cursor", set_marker, ("T",),
                nothing_open),
        Command("name_marker", "Mar&kers", "Name and note…", "Give the chosen marker a name and a note",
                mends.ask_marker_name, ("Ctrl+T",), no_marker),
        Command("delete_marker", "Mar&kers", "Delete the marker", "Take the chosen marker away", marking.delete, ("Shift+T",),
                no_marker),
        Command("next_marker", "Mar&kers", "Next marker", "Go to the next marker", lambda: marking.step(1), ("]",), no_markers,
                separated=True),
        Command("previous_marker", "Mar&kers", "Previous marker", "Go to the previous marker", lambda: marking.step(-1),
                ("[",), no_markers),
        Command("note", "Mar&kers", "Note on the finding…", "Write a note on the finding in focus", mends.ask_note,
                ("Ctrl+E",), no_finding, separated=True),
        Command("markers_in", "Mar&kers", "Take markers in…", "Add the markers of a table or the cue points of a WAV file",
                files.ask_markers_in, (), nothing_open, separated=True),
        Command("markers_out", "Mar&kers", "Write the markers…", "Write all markers as a table (CSV)",
                files.ask_markers_out, (), no_markers),
        Command("play", "&Listen", "Play or stop", "Play from the cursor, or stop", listening.toggle, ("Space",),
                nothing_open, icon="play"),
        Command("loop", "&Listen", "Loop", "Play the selection, or around the finding, round and round",
                lambda: listening.set_loops(not listening.loops), ("L",), nothing_open, lambda: listening.loops,
                icon="repeat"),
        Command("to_start", "&Listen", "Back to the start", "Go to the first sample", go_to(start), (), nothing_open,
                icon="skip-back"),
        Command("flip", "&Listen", "Before / after", "Switch between before and after, at the same place", listening.flip,
                ("B",), nothing_open, separated=True),
        Command("compare", "&Listen", "Before / after, equally loud", "Switch between before and after at matched loudness",
                listening.compare, ("Shift+B",), nothing_open),
        Command("residue", "&Listen", "Residue", "Hear what the mends took out",
                lambda: listening.hear(Hearing.AFTER if listening.hearing is Hearing.RESIDUE else Hearing.RESIDUE), ("R",),
                nothing_open, lambda: listening.hearing is Hearing.RESIDUE),
        Command("match", "&Listen", "Match loudness", "Play before and after equally loud",
                lambda: listening.set_matches_loudness(not listening.matches_loudness), ("M",), nothing_open,
                lambda: listening.matches_loudness),
        Command("from_pointer", "&Listen", "Play from the pointer", "Play from where the pointer is over a strip",
                play_from_pointer, ("Shift+Space",), nothing_open, separated=True),
        Command("skipping", "&Listen", "Play without the selection", "Play what is around the selection as if it were spliced out",
                listening.play_skipping, ("Ctrl+Space",), not_selected),
        Command("half_speed", "&Listen", "Half speed", "Play at half speed", lambda: listening.set_speed(0.5), ("H",),
                nothing_open, lambda: listening.engine.pace.speed == 0.5),
        Command("quarter_speed", "&Listen", "Quarter speed", "Play at a quarter of the speed",
                lambda: listening.set_speed(0.25), ("Shift+H",), nothing_open, lambda: listening.engine.pace.speed == 0.25),
        Command("keep_pitch", "&Listen", "Slow, at the same pitch", "Slow playing keeps the pitch, instead of falling as a tape's does",
                lambda: listening.set_keeps_pitch(not listening.engine.pace.keeps_pitch), ("Ctrl+H",), nothing_open,
                lambda: listening.engine.pace.keeps_pitch),
        Command("scrub_back", "&Listen", "Scrub backward", "Hold to play backward from the cursor (or drag a strip with the right button)",
                scrub(-1, crawls=False), (",",), nothing_open, separated=True),
        Command("scrub_on", "&Listen", "Scrub forward", "Hold to play slowly from the cursor (or drag a strip with the right button)",
                scrub(1, crawls=False), (".",), nothing_open),
        Command("crawl_back", "&Listen", "Crawl backward", "Hold to play backward at a crawl", scrub(-1, crawls=True),
                ("Alt+,",), nothing_open),
        Command("crawl_on", "&Listen", "Crawl forward", "Hold to play at a crawl", scrub(1, crawls=True), ("Alt+.",), nothing_open),
        Command("sound", "&Listen", "Sound…", "Which output, how soon it is heard, and the leads of loops", window.ask_sound,
                ("Ctrl+Shift+O",), separated=True),
        Command("follow", "&Listen", "Follow the playhead", "Move the Passage along while playing", toggle_follow, ("F",),
                always, lambda: viewing.follows),
        Command("keys", "&Help", "Keys", "Show every key on one sheet", window.show_keys, ("F1",)),
        Command("find_command", "&Help", "Find a command…", "Find a command by a word of what it does; also says why it is off",
                window.find_command, ("Shift+F1",)),
        Command("guide", "&Help", "Guide", "Read how to work with Umbrick, beside the bench", window.show_guide, ("Ctrl+F1",)),
        Command("about", "&Help", "About Umbrick", "Version and licences", window.show_about),
    ]  # fmt: skip
