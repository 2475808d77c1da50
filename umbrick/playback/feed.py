"""Feeding the output: blocks that are made wait here, and a thread that does nothing else hands them over in time."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import Generic, TypeVar

from umbrick.core.errors import CancelledError
from umbrick.core.fault_log import fault_named, note_fault
from umbrick.playback.output import Block, Output, OutputError
from umbrick.playback.simulated import SimulatedOutput

State = TypeVar("State")


@dataclass(frozen=True, slots=True)
class Made(Generic[State]):
    """A block on its way to the output: ``sound`` goes out, ``metered`` is the same at the version's level, and
    ``before`` is the state it was made from. ``form`` is rate and number of channels."""

    sound: Block
    metered: Block
    form: tuple[int, int]
    before: State


class Feed(Generic[State]):
    """Blocks that are made but not handed over yet, in order, and the output they go to.

    Parameters
    ----------
    output : Output
    changed : Condition
        The lock of who makes the blocks: held for every exchange, never while the output is written to.
    on_fault : callable
        Told in one sentence when the output fails; the simulated one takes its place.
    is_quiet : callable
        Whether nothing will follow what waits: the output may run out.
    """

    def __init__(
        self,
        output: Output,
        changed: threading.Condition,
        on_fault: Callable[[str], None],
        is_quiet: Callable[[], bool],
    ) -> None:
        self.output = output
        self._changed = changed
        self._on_fault = on_fault
        self._is_quiet = is_quiet
        self._next_output: Output | None = None
        self._waiting: deque[Made[State]] = deque()
        self._handed: deque[Made[State]] = deque()
        self._form: tuple[int, int] | None = None
        self._is_flushed = False
        self._is_closing = False
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Hand over in a thread from now on."""
        self._thread = threading.Thread(target=self._run, name="feeding", daemon=True)
        self._thread.start()

    @property
    def output_name(self) -> str:
        """Where the sound goes, or will from the next block on."""
        return (self._next_output or self.output).name

    @property
    def is_empty(self) -> bool:
        """Whether nothing waits."""
        return not self._waiting

    @property
    def frames(self) -> int:
        """How many frames wait."""
        return sum(len(made.sound) for made in list(self._waiting))

    @property
    def front(self) -> State | None:
        """The state that the block which is handed over next was made from; None if none waits."""
        with self._changed:
            return self._waiting[0].before if self._waiting else None

    def put(self, made: Made[State]) -> None:
        """Have a block follow those that wait."""
        with self._changed:
            self._waiting.append(made)
            self._changed.notify_all()

    def take_back(self) -> State | None:
        """Drop what waits; the state that the first of it was made from, or None."""
        with self._changed:
            front = self.front
            self._waiting.clear()
            return front

    def take_handed(self) -> Made[State] | None:
        """Return the next block that has been handed over and not been asked for yet."""
        return self._handed.popleft() if self._handed else None

    @property
    def has_handed(self) -> bool:
        """Whether there is one."""
        return bool(self._handed)

    def use(self, output: Output) -> None:
        """Go on with another output; the old one is closed."""
        with self._changed:
            self._next_output = output
            self._changed.notify_all()

    def hand_over(self) -> None:
        """Give the output the next block, if one waits."""
        with self._changed:
            made = self._waiting.popleft() if self._waiting else None
            if made is not None:
                self._handed.append(made)
                self._is_flushed = False
            output, self._next_output = self._next_output, None
            self._changed.notify_all()
        if output is not None:
            self.output.close()
            self.output = output
            self._open()
        if made is None:
            return
        if made.form != self._form:
            self._form = made.form
            self._open()
        try:
            if len(made.sound):
                self.output.write(made.sound)
        except OutputError as error:
            self._fall_back(str(error))

    def close(self) -> None:
        """Hand nothing over any more, and let go of the output."""
        with self._changed:
            self._is_closing = True
            self._changed.notify_all()
        if self._thread:
            self._thread.join()
        self.output.close()

    def _run(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(self._is_wanted)
                if self._is_closing:
                    return
                runs_out = self._runs_out()
                self._is_flushed |= runs_out
            try:
                if runs_out:
                    self.output.flush()  # which may take as long as the device's buffer lasts: nobody waits for it
                else:
                    self.hand_over()
            except CancelledError:
                continue
            except Exception as error:
                note_fault(error)
                self._on_fault(f"Playing stopped: a {fault_named(error)}.")

    def _runs_out(self) -> bool:
        return self._is_quiet() and not self._waiting and self._next_output is None and not self._is_flushed

    def _is_wanted(self) -> bool:
        return bool(self._waiting) or self._next_output is not None or self._is_closing or self._runs_out()

    def _open(self) -> None:
        if self._form is None:
            return
        try:
            self.output.open(*self._form)
        except OutputError as error:
            self._fall_back(str(error))

    def _fall_back(self, reason: str) -> None:
        self.output.close()
        self.output = SimulatedOutput()
        if self._form:
            self.output.open(*self._form)
        self._on_fault(f"{reason} Sound goes to the simulated output.")
