"""Copies of a recording, or of some of it, written beside it to be opened: the recording stays as it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from umbrick.core.free_names import folder_beside, free_path
from umbrick.core.sound.conversion import ChannelChoice
from umbrick.core.sound.saving import Papers, format_for, save
from umbrick.core.sound.source import Source
from umbrick.work.work import Work


def path_beside(home: Path, mark: str) -> Path:
    """Return where a copy of a file goes if nothing stands there: ``tape-2.wav`` for the mark ``2``."""
    return folder_beside(home) / f"{home.stem}-{mark}.wav"


class CopyBeside:
    """A copy that is to be written: of a recording as it sounds now, or of other ``sound`` that was made of it."""

    def __init__(self, work: Work, sound: Source | None = None, made_anew: bool = True) -> None:
        self._sound = work.outcome if sound is None else sound
        self._home, self._origin, self._made_anew = work.home, work.recording, made_anew

    def write(
        self,
        mark: str,
        *,
        rate: int | None = None,
        layout: ChannelChoice | None = None,
        progress: Callable[[float], None] = lambda _: None,
        is_cancelled: Callable[[], bool] = lambda: False,
    ) -> Path:
        """Write it under a mark, at its own rate with all channels by default, and return where it is."""
        usual = path_beside(self._home, mark)
        saved = save(
            self._sound, free_path(usual), format_for(usual, self._origin.format), rate=rate, layout=layout,
            papers=Papers(self._origin.path), origin_format=self._origin.format, made_anew=self._made_anew,
            progress=progress, is_cancelled=is_cancelled,
        )  # fmt: skip
        return saved.path


@contextmanager
def all_or_none() -> Iterator[list[Path]]:
    """Give a list for what is written; if not all could be, what is in it is taken away again."""
    written: list[Path] = []
    try:
        yield written
    except BaseException:
        for path in written:
            with suppress(OSError):
                path.unlink()
        raise
