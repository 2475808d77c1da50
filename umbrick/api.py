"""Umbrick from Python: recordings opened, surveyed, mended and saved, as the command line does it.

Everything here is told in frames and streamed: a recording of any length takes little memory until its samples are
asked for. No interface is loaded.

>>> import numpy as np, soundfile, tempfile, os
>>> folder = tempfile.mkdtemp()
>>> path = os.path.join(folder, "tone.wav")
>>> tone = 0.4 * np.sin(2 * np.pi * 220 * np.arange(48000) / 48000)
>>> tone[24000:24005] += 0.5
>>> soundfile.write(path, tone, 48000, subtype="PCM_24")
>>> import umbrick
>>> recording = umbrick.open(path)
>>> recording.rate, recording.channels, recording.frames
(48000, 1, 48000)
>>> findings = recording.survey(kinds=["click"])
>>> [finding.kind for finding in findings]
['click']
>>> mended = recording.mend(findings)
>>> len(mended.mends)
1
>>> saved = mended.save(os.path.join(folder, "mended.wav"))
>>> saved.name
'mended.wav'
>>> recording.close()
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from os import PathLike
from pathlib import Path
from typing import Any, overload

from umbrick.casebook.casebook import Casebook, is_casebook
from umbrick.casebook.reporting import facts_of_shelf
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError, UmbrickError
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import Batch, Plan
from umbrick.core.mend.registry import method_named
from umbrick.core.paths import cache_folder
from umbrick.core.quick_transforms import use_quick_transforms
from umbrick.core.regimen.regimen import Regimen as _Regimen
from umbrick.core.report.document import document as document_of_report
from umbrick.core.report.facts import Facts
from umbrick.core.report.page import page
from umbrick.core.report.table import as_csv
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import Recording as _Opened
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.saving import format_for
from umbrick.core.sound.source import Samples
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.survey.document import document, findings_as_json, measures_as_json
from umbrick.core.survey.finding import Finding as _Finding
from umbrick.core.survey.registry import KINDS, kinds_named
from umbrick.core.survey.survey import Survey, Surveyor
from umbrick.core.timeline.history import Mend
from umbrick.core.timeline.version import Version
from umbrick.work.batch.cluster import run_on_cluster
from umbrick.work.batch.gathering import gathered
from umbrick.work.batch.reports import report_document, write_report
from umbrick.work.batch.running import run_batch
from umbrick.work.batch.treating import Order
from umbrick.work.doing import Done, by_method, by_plan, by_regimen, by_treatment, places_for, sure_enough, write

_Path = str | PathLike[str]
_Spans = str | Sequence[tuple[int, int]]
_dumps = json.dumps
"""``json`` is also the name of an argument."""


@dataclass(frozen=True)
class Finding:
    """One fault that the survey found. ``start`` and ``end`` are frames, half open; the two figures run from 0 to 1."""

    id: str
    kind: str
    start: int
    end: int
    channels: tuple[int, ...]
    severity: float
    confidence: float
    evidence: str
    detail: Mapping[str, Any]
    _core: _Finding

    @classmethod
    def _of(cls, finding: _Finding) -> Finding:
        return cls(
            finding.id, finding.kind, finding.start, finding.stop, finding.channels, finding.severity,
            finding.confidence, finding.evidence, finding.detail, finding,
        )  # fmt: skip


class Findings(Sequence[Finding]):
    """What a survey found, in order of time."""

    def __init__(self, path: str, opened: _Opened, survey: Survey, sensitivity: Mapping[str, float]) -> None:
        self._path = path
        self._source = opened.source
        self._survey = survey
        self._sensitivity = dict(sensitivity)
        self._all = tuple(Finding._of(finding) for finding in survey.sifted(self._sensitivity))

    @overload
    def __getitem__(self, index: int) -> Finding: ...
    @overload
    def __getitem__(self, index: slice) -> tuple[Finding, ...]: ...
    def __getitem__(self, index: int | slice) -> Finding | tuple[Finding, ...]:
        return self._all[index]

    def __len__(self) -> int:
        return len(self._all)

    def __iter__(self) -> Iterator[Finding]:
        return iter(self._all)

    def to_json(self) -> str:
        """Return the findings as JSON (schema ``umbrick.findings/1``)."""
        cores = [finding._core for finding in self._all]
        entry = {
            "path": self._path,
            "rate": self._source.rate,
            "channels": self._source.channels,
            "frames": self._source.frames,
            "measures": measures_as_json(self._survey.measures(self._sensitivity)),
            "findings": findings_as_json(cores, self._source.rate),
        }
        return json.dumps(document([entry]), ensure_ascii=False, allow_nan=False)


class Recording:
    """A recording, or what mending has made of one. Never changed: mending returns another one."""

    def __init__(self, opened: _Opened, original: Version, done: Done, surveys: dict[tuple[str, ...], Survey]) -> None:
        self._opened = opened
        self._original = original
        self._done = done
        self._surveys = surveys

    def __repr__(self) -> str:
        return f"<umbrick.Recording {self.path.name}, {self.frames} frames at {self.rate} Hz, {len(self.mends)} mends>"

    @property
    def path(self) -> Path:
        """The file it was opened from."""
        return self._opened.path

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self._original.rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self._original.channels

    @property
    def frames(self) -> int:
        """Length in frames."""
        return self._done.sound.frames

    @property
    def mends(self) -> tuple[Mend, ...]:
        """What was done, oldest first: each with ``method``, ``start``, ``stop``, ``channels`` and ``parameters``."""
        return self._done.mends

    def samples(self, start: int = 0, stop: int | None = None) -> Samples:
        """Return frames as float32 of shape ``(frames, channels)``.

        Raises
        ------
        IndexError
            If the span lies outside of the recording.
        """
        return self._done.sound.read(start, self.frames if stop is None else stop).copy()

    def measures(self) -> dict[str, Any]:
        """Return peak, true peak, loudness, noise floor, share of clipped samples, hum, and the prognosis."""
        return measures_as_json(self._survey(list(KINDS)).measures({}))

    def survey(self, kinds: Iterable[str] | None = None, sensitivity: Mapping[str, float] | None = None) -> Findings:
        """Survey the recording as it is now.

        Parameters
        ----------
        kinds : iterable of str, optional
            Kinds of finding; by default all.
        sensitivity : mapping of str to float, optional
            From 0 (only what is certain) to 1 (everything measured) for kinds; 0.5 if not given.

        Raises
        ------
        UmbrickError
            If there is no such kind, or the file cannot be read any more.
        """
        return Findings(str(self.path), self._opened, self._survey(kinds), sensitivity or {})

    def mend(
        self,
        findings: Iterable[Finding] | None = None,
        *,
        method: str | None = None,
        at: _Spans | None = None,
        channels: Iterable[int] | None = None,
        **settings: Any,
    ) -> Recording:
        """Return the recording mended.

        Without anything, it is surveyed, and what is surely damage is mended, as ``umbrick mend IN OUT`` does. With
        ``findings``, just these are, each by its best mend. With a ``method``, that is applied at places.

        Parameters
        ----------
        findings : iterable of Finding, optional
            Of this recording's survey.
        method : str, optional
            A method's name, see ``umbrick methods``.
        at : "all" or sequence of (int, int), optional
            Where: spans in frames, half open. Goes with ``method``.
        channels : iterable of int, optional
            Only these channels; by default all.
        **settings
            The method's parameters.

        Raises
        ------
        UmbrickError
            If there is no such method, setting or place, or the method cannot mend there.
        """
        self._opened.refuse_damage()
        if method is None:
            if at is not None or channels is not None or settings:
                raise ParameterError("at, channels and settings go with a method.")
            return self._mended_by_plan(findings)
        if at is None:
            raise ParameterError('Say where: at="all", or spans in frames.')
        chosen = method_named(method)
        parameters = chosen.checked(dict(settings.items()))
        places = self._places(at, channels)
        sound = self._done.sound
        if isinstance(chosen.does, Treatment):
            return self._after(by_treatment(sound, chosen, parameters, places, measures_peak=True))
        survey = self._survey(None)
        known = survey.sifted({})
        places = places_for(places, known, chosen, parameters, self.rate)
        return self._after(by_method(sound, Batch(chosen, parameters, places), known, survey.levels.peak))

    def save(
        self,
        path: _Path,
        subtype: str = "same",
        ceiling_dbfs: float | None = None,
        overwrite: bool = False,
    ) -> Path:
        """Write the recording to a file, as the command line does, with tags, chunks and, of a video, all else.

        Parameters
        ----------
        path : path
            Its ending says the format.
        subtype : str
            ``same``, ``PCM_16``, ``PCM_24`` or ``FLOAT``.
        ceiling_dbfs : float, optional
            Lower the level so that no sample passes this.
        overwrite : bool
            Whether an existing file may be replaced.

        Returns
        -------
        Path

        Raises
        ------
        UmbrickError
            If it cannot be written; nothing has changed then.
        """
        target = Path(path)
        form = format_for(target, self._opened.format, None if subtype == "same" else subtype)
        if target.exists() and target.samefile(self.path):
            raise ParameterError(f"{target.name} is the source itself.", "Save it under another name.")
        self._opened.check_unchanged()
        gain_db = self._done.gain_db(form, ceiling_dbfs)
        return write(self._opened, self._done, target, form, gain_db, overwrite=overwrite).path

    def close(self) -> None:
        """Let go of the file; whatever was made of it can no longer be read."""
        self._opened.close()

    def __enter__(self) -> Recording:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def _mended_by_plan(self, findings: Iterable[Finding] | None) -> Recording:
        survey = self._survey(None)
        known = survey.sifted({})
        if findings is None:
            plan = Plan(tuple(sure_enough(known, {})[0]), spares_the_sound=True)
        else:
            plan = Plan(tuple(finding._core for finding in findings))
        return self._after(by_plan(self._done.sound, plan, known, survey.levels.peak))

    def _after(self, done: Done) -> Recording:
        """Return what was done to this recording, with what was done before."""
        before = self._done
        whole = replace(done, mends=(*before.mends, *done.mends), course=(*before.course, *done.course))
        return Recording(self._opened, self._original, whole, {})

    def _places(self, at: _Spans, channels: Iterable[int] | None) -> list[Place]:
        on = tuple(sorted(set(channels))) if channels is not None else tuple(range(self.channels))
        if not on or not all(0 <= channel < self.channels for channel in on):
            raise ParameterError(f"The recording has channels 0 to {self.channels - 1}.")
        if isinstance(at, str):
            if at != "all":
                raise ParameterError(f'at is "all" or spans in frames, not {at[:40]!r}.')
            return [Place(0, self.frames, on)]
        places = [Place(int(start), int(stop), on) for start, stop in at]
        if not places or not all(0 <= place.start < place.stop <= self.frames for place in places):
            raise ParameterError(f"Spans lie within the recording, which has {self.frames} frames.")
        return places

    def _survey(self, kinds: Iterable[str] | None) -> Survey:
        wanted = kinds_named(list(kinds) if kinds is not None else None)
        key = tuple(kind.name for kind in wanted)
        if key not in self._surveys:
            use_quick_transforms()
            self._surveys[key] = Surveyor(self._done.sound, self._opened.format.bits, wanted).run()
        return self._surveys[key]


class Regimen:
    """A saved chain of treatments (schema ``umbrick.regimen/1``)."""

    def __init__(self, core: _Regimen) -> None:
        self._core = core

    @classmethod
    def load(cls, path: _Path) -> Regimen:
        """Return the regimen in a file; UmbrickError if it holds none."""
        return cls(_Regimen.load(Path(path)))

    @classmethod
    def from_dict(cls, document: Mapping[str, Any]) -> Regimen:
        """Return the regimen of plain JSON values; UmbrickError if it is none."""
        return cls(_Regimen.parsed(dict(document)))

    @property
    def name(self) -> str:
        """What it is called."""
        return self._core.name

    def to_dict(self) -> dict[str, Any]:
        """Return it as plain JSON values."""
        return self._core.document()

    def run(self, recording: Recording) -> Recording:
        """Return a recording with the regimen run on it: the same samples as the command line's."""
        recording._opened.refuse_damage()
        survey = recording._survey(None)
        findings = survey.sifted(dict(self._core.sensitivity))
        return recording._after(by_regimen(recording._done.sound, self._core, findings, survey.levels.peak))


def open(path: _Path, track: int | None = None) -> Recording:
    """Open a sound file, or a sound track of a video.

    Parameters
    ----------
    path : path
    track : int, optional
        Which sound track of a container, from 0; by default the one that is played.

    Raises
    ------
    UmbrickError
        If it cannot be read; the message names the file and is one sentence.
    """
    opened = open_recording(Path(path), cache_folder(), track)
    original = Version.of(opened.source)
    return Recording(opened, original, Done(original, (), 0.0), {})


def batch(
    files: _Path | Iterable[_Path],
    out: _Path,
    regimen: Regimen | _Path,
    jobs: int = 1,
    scheduler: str | None = None,
) -> dict[str, Any]:
    """Run a regimen on files and folders, as ``umbrick batch`` does; what is done already is not done again.

    Where ``jobs`` is more than 1, processes are started that import the calling program: it must keep what it does
    when it is run under ``if __name__ == "__main__"``.

    Parameters
    ----------
    files : path or iterable of path
        Files, or folders with all recordings below them.
    out : path
        The folder for the results, and for ``report.json``, ``.html`` and ``.csv``.
    regimen : Regimen or path
    jobs : int
        Files treated side by side.
    scheduler : str, optional
        Address of a Dask scheduler whose workers do it instead (needs ``umbrick[cluster]``).

    Returns
    -------
    dict
        The report (schema ``umbrick.report/1``); files that could not be done are under ``failures``.

    Raises
    ------
    UmbrickError
        If there is no recording, nothing can be written there, or no scheduler answers.
    """
    if jobs < 1:
        raise ParameterError("A batch needs at least one job.")
    held = regimen if isinstance(regimen, Regimen) else Regimen.load(regimen)
    order = Order(str(Path(out)), held.to_dict())
    given = [files] if isinstance(files, str | PathLike) else list(files)
    items = gathered([Path(file) for file in given], Path(out))
    if not items:
        raise ParameterError("There is no recording among these files.", "Nothing was done.")
    outcome = run_on_cluster(items, order, scheduler) if scheduler else run_batch(items, order, jobs)
    entries = list(outcome.entries.values())
    write_report(entries, order.regimen, Path(out) / "report.json")
    return report_document(entries, order.regimen)


def report(
    source: _Path | Recording | Iterable[Recording],
    html: _Path | None = None,
    csv: _Path | None = None,
    json: _Path | None = None,
    overwrite: bool = False,
) -> dict[str, Any]:
    """Return what was found and done, and write it where asked, as ``umbrick report`` does.

    Parameters
    ----------
    source : path, Recording or iterable of Recording
        A casebook, a file (which is surveyed), or recordings with what was done to them.
    html, csv, json : path, optional
        Where the page, the table and the JSON go.
    overwrite : bool
        Whether existing files may be replaced.

    Returns
    -------
    dict
        The report (schema ``umbrick.report/1``).

    Raises
    ------
    UmbrickError
        If something cannot be read, or not be written.
    """
    with ExitStack() as opened:
        facts = _facts_in(source, opened)
        told = document_of_report(facts)
        if html is not None:
            _write_text(html, page(facts), overwrite)
        if csv is not None:
            _write_text(csv, as_csv(facts), overwrite)
        if json is not None:
            _write_text(json, _dumps(told, ensure_ascii=False, indent=1), overwrite)
    return told


def _write_text(path: _Path, text: str, overwrite: bool) -> None:
    write_whole(Path(path), text.encode(errors="backslashreplace"), overwrite)


def _facts_in(source: _Path | Recording | Iterable[Recording], opened: ExitStack) -> list[Facts]:
    """Return what is known of everything in a source; what must be open until it is told is given to a stack."""
    if isinstance(source, Recording):
        return [_facts_of(source)]
    if not isinstance(source, str | PathLike):
        return [_facts_of(recording) for recording in source]
    path = Path(source)
    if not is_casebook(path):
        return [_facts_of(opened.enter_context(open(path)))]
    casebook = Casebook.open(path)
    opened.callback(casebook.close)
    found = []
    for shelf in casebook.shelves():
        facts, recording = facts_of_shelf(shelf)
        if recording is not None:
            opened.callback(recording.close)
        found.append(facts)
    return found


def _facts_of(recording: Recording) -> Facts:
    opened, done = recording._opened, recording._done
    first = Recording(opened, recording._original, Done(recording._original, (), 0.0), {})
    survey = first._survey(None)
    after = recording._survey(None).measures({}) if done.count else None
    return Facts(
        str(opened.path), sha256_of(opened.path), opened.format, recording._original, done.version, survey.sifted({}),
        done.states, done.mends, measures_before=survey.measures({}), measures_after=after, course=done.course,
    )  # fmt: skip


__all__ = ["Finding", "Findings", "Recording", "Regimen", "UmbrickError", "batch", "open", "report"]
