"""The report as a page: one HTML file that needs nothing beside it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from datetime import datetime
from html import escape

from umbrick import __version__
from umbrick.core.course.acting import method_of, told
from umbrick.core.course.step import where_told
from umbrick.core.errors import CancelledError
from umbrick.core.mend.registry import settings_told
from umbrick.core.report.facts import Facts
from umbrick.core.report.picture import before_and_after, provenance_bar
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.groups import Group, together
from umbrick.core.survey.survey import Measures
from umbrick.core.timeline.history import Mend
from umbrick.core.timeline.provenance import provenance_shares
from umbrick.core.units import format_clock, format_count, format_db, format_length, format_percent, format_shift

MOST_PICTURES = 200
MOST_LINES = 2000
"""What a page shows of a recording; the table (CSV) and the JSON hold all of it."""

_STYLE = """
:root { --paper: #F6F1E7; --desk: #E9E1D2; --rule: #CDBFA9; --ink: #2A231D; --faint: #6F6355; --wrong: #AD3E29;
  --mended: #1E6A70; --ghost: #968B7B; --envelope: #C2A283; }
body { background: var(--paper); color: var(--ink); font: 15px/1.5 "IBM Plex Sans", sans-serif; max-width: 980px;
  margin: 32px auto; padding: 0 24px; font-variant-numeric: tabular-nums; }
h1 { font-size: 24px; } h2 { font-size: 19px; margin-top: 40px; border-top: 1px solid var(--rule); padding-top: 24px; }
h3 { font-size: 15px; margin-top: 28px; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 600; color: var(--faint); }
th, td { padding: 4px 12px 4px 0; border-bottom: 1px solid var(--rule); vertical-align: middle; }
td.number { text-align: right; } .faint { color: var(--faint); } code { font-size: 12px; word-break: break-all; }
svg { background: #FBF8F1; display: block; } svg .before { fill: none; stroke: var(--ghost); stroke-width: 1; }
svg .after { fill: none; stroke: var(--mended); stroke-width: 1.4; } svg .zero { stroke: var(--rule); }
.bar .original { fill: var(--envelope); } .bar .rebuilt { fill: var(--mended); } .bar .grafted { fill: #3B5A8C; }
.bar .re-levelled { fill: #8F6A14; } .bar .filtered { fill: #5D6B1E; } .bar .moved { fill: #7A3E73; }
.bar .deleted { fill: var(--wrong); } .mended { color: var(--mended); } .open { color: var(--wrong); }
"""


def page(
    recordings: Sequence[Facts],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> str:
    """Return the page.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so.
    FileError
        If a recording cannot be read any more.
    """
    title = "What was found and mended"
    sections = []
    for number, facts in enumerate(recordings):

        def told(share: float, number: int = number) -> None:
            progress((number + share) / len(recordings))

        sections.append(_section(facts, told, is_cancelled))
    when = f"{datetime.now():%Y-%m-%d %H:%M}"
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>{title}</title>'
        f"<style>{_STYLE}</style></head><body><h1>{title}</h1>"
        f'<p class="faint">{when}, Umbrick {__version__}. Grey lines are the sound before, teal ones after.</p>'
        f"{''.join(sections)}</body></html>\n"
    )


def _section(facts: Facts, progress: Callable[[float], None], is_cancelled: Callable[[], bool]) -> str:
    original, rate = facts.original, facts.original.rate
    form = (
        f"{rate / 1000:g} kHz · {facts.form.name} · {format_count(original.channels, 'channel')} · "
        f"{format_clock(original.frames, rate, 1)}"
    )
    shares = provenance_shares(facts.version, original)
    told = " · ".join(
        f"{name} {format_percent(share)}" for name, share in shares.items() if share or name == "original"
    )
    debt = format_shift(facts.timing_debt, rate)
    parts = [
        f"<h2>{escape(facts.path)}</h2><p>{escape(form)}<br>",
        f'<span class="faint">SHA-256 of the source</span> <code>{escape(facts.sha256 or "not known")}</code></p>',
        "" if facts.can_be_heard else '<p class="open">The file with the sound was not found: no pictures.</p>',
        _measures(facts),
        f"<h3>Where the samples come from</h3>{provenance_bar(facts.version, original)}",
        f"<p>{told}. Timing debt {debt}.</p>",
        _course(facts),
        _mends(facts, progress, is_cancelled),
        _findings(facts),
        _markers(facts),
    ]
    return "".join(parts)


def _measures(facts: Facts) -> str:
    before, after = facts.measures_before, facts.measures_after
    if before is None:
        return '<p class="faint">Not surveyed.</p>'
    rows = (
        ("Highest sample", lambda m: format_db(m.peak_dbfs)),
        ("True peak", lambda m: format_db(m.true_peak_dbtp, "dBTP")),
        ("Loudness", lambda m: format_db(m.loudness_lufs, "LUFS")),
        ("Noise floor", lambda m: format_db(m.noise_floor_dbfs)),
        ("Clipped samples", lambda m: f"{100 * m.clipped_share:.4g} %"),
        ("Prognosis", lambda m: escape(m.prognosis.reason)),
    )
    head = "<tr><th></th><th>Before</th>" + ("<th>After</th>" if after else "") + "</tr>"
    body = "".join(_measure(name, say, before, after) for name, say in rows)
    gain = f"<p>Saved with a level change of {format_db(facts.gain_db, 'dB')}.</p>" if facts.gain_db else ""
    return f"<table>{head}{body}</table>{gain}"


def _measure(name: str, say: Callable[[Measures], str], before: Measures, after: Measures | None) -> str:
    last = f"<td>{say(after)}</td>" if after else ""
    return f"<tr><td class='faint'>{name}</td><td>{say(before)}</td>{last}</tr>"


def _course(facts: Facts) -> str:
    """Return what is laid over the mended sound, in the order in which sound goes through it."""
    if not facts.course:
        return ""
    rate = facts.original.rate
    rows = "".join(
        f"<tr><td>{number}</td><td>{escape(told(step))}{'' if step.is_on else ' (switched off)'}</td>"
        f"<td>{escape(method_of(step).told(step.settings))}</td><td>{escape(where_told(step, rate))}</td></tr>"
        for number, step in enumerate(facts.course, 1)
    )
    head = "<tr><th></th><th>Treatment</th><th>Settings</th><th>Where</th></tr>"
    return f"<h3>Course</h3><table>{head}{rows}</table>"


def _mends(facts: Facts, progress: Callable[[float], None], is_cancelled: Callable[[], bool]) -> str:
    count = len(facts.mends)
    off = f", {len(facts.switched_off)} more switched off" if facts.switched_off else ""
    if not count:
        return f"<h3>No mends{off}</h3>"
    rows = []
    for number, mend in enumerate(facts.mends[:MOST_LINES]):
        if is_cancelled():
            raise CancelledError
        rows.append(_mend(facts, mend, with_picture=number < MOST_PICTURES and facts.can_be_heard))
        progress((number + 1) / min(count, MOST_LINES))
    head = "<tr><th>Where</th><th>Length</th><th>What was done</th><th>Seam</th><th>Before and after</th></tr>"
    return f"<h3>{format_count(count, 'mend')}{off}</h3><table>{head}{''.join(rows)}</table>{_more(count, 'mends')}"


def _mend(facts: Facts, mend: Mend, with_picture: bool) -> str:
    rate = facts.original.rate
    picture = ""
    if with_picture and mend.stop <= facts.version.frames:
        picture = before_and_after(facts.original, facts.version, mend.start, mend.stop, mend.channels[0])
    seam = "–" if mend.seam_score is None else f"{mend.seam_score:.2f}"
    return (
        f"<tr><td>{format_clock(mend.start, rate)}</td><td>{format_length(mend.stop - mend.start, rate)}</td>"
        f'<td>{escape(mend.method)}<br><span class="faint">{escape(settings_told(mend))}</span></td><td>{seam}</td>'
        f"<td>{picture}</td></tr>"
    )


def _findings(facts: Facts) -> str:
    if not facts.findings:
        return ""
    states = {state: sum(facts.state_of(finding) is state for finding in facts.findings) for state in State}
    told = ", ".join(f"{count} {state.value}" for state, count in states.items() if count)
    entries = together(facts.findings[:MOST_LINES], facts.original.rate)
    rows = "".join(_group(facts, entry) if isinstance(entry, Group) else _finding(facts, entry) for entry in entries)
    head = "<tr><th>Where</th><th>Kind</th><th>Evidence</th><th>Confidence</th><th>State</th></tr>"
    count = len(facts.findings)
    return f"<h3>{format_count(count, 'finding')}: {told}</h3><table>{head}{rows}</table>{_more(count, 'findings')}"


def _group(facts: Facts, group: Group) -> str:
    """Return the row of findings that belong together, which opens to show each."""
    counts = Counter(facts.state_of(finding) for finding in group.findings)
    states = ", ".join(f"{counts[state]} {state.value}" for state in State if counts[state])
    shown = next(state for state in State if counts[state])
    singles = "".join(_finding(facts, finding) for finding in group.worst_first)
    return (
        f"<tr><td>{group.clock(facts.original.rate)}</td><td>{escape(group.kind)}</td>"
        f"<td><details><summary>{escape(group.evidence)}</summary><table>{singles}</table></details></td>"
        f'<td>{100 * group.confidence:.0f} %</td><td class="{shown.value}">{states}</td></tr>'
    )


def _finding(facts: Facts, finding: Finding) -> str:
    state = facts.state_of(finding)
    note = facts.notes.get(finding.id, "")
    words = escape(finding.evidence) + (f'<br><span class="faint">{escape(note)}</span>' if note else "")
    return (
        f"<tr><td>{format_clock(finding.start, facts.original.rate)}</td>"
        f"<td>{escape(finding.kind)}</td><td>{words}</td>"
        f'<td>{100 * finding.confidence:.0f} %</td><td class="{state.value}">{state.value}</td></tr>'
    )


def _markers(facts: Facts) -> str:
    if not facts.markers:
        return ""
    rate = facts.original.rate
    rows = "".join(
        f"<tr><td>{format_clock(cue.start, rate)}</td><td>{format_length(cue.length, rate) if cue.length else ''}</td>"
        f"<td>{escape(cue.name)}</td><td>{escape(cue.note)}</td></tr>"
        for cue in facts.markers[:MOST_LINES]
    )
    return f"<h3>{format_count(len(facts.markers), 'marker')}</h3><table>{rows}</table>"


def _more(count: int, what: str) -> str:
    if count <= MOST_LINES:
        return ""
    return f'<p class="faint">The first {MOST_LINES} of {count} {what}; the table (CSV) and the JSON hold all.</p>'
