"""The system's sound device, through PortAudio."""

from __future__ import annotations

import threading
import weakref
from typing import Any

import numpy as np
import soxr

from umbrick.playback.output import Block, Choice, OutputError

_LOCK = threading.RLock()
"""Held when a device begins to play, and while the devices are listed anew."""

_OUTPUTS: weakref.WeakSet[SystemOutput] = weakref.WeakSet()


def system_devices() -> list[str]:
    """Return the names of the devices that can play."""
    try:
        refresh()
        sounddevice = _portaudio()
        return [str(device["name"]) for device in sounddevice.query_devices() if device["max_output_channels"] > 0]
    except OutputError:
        return []


def refresh() -> None:
    """Have devices seen that have come or gone since; while one plays, nothing is done.

    PortAudio lists the devices once, when it is started: it is started again. OutputError if it is missing.
    """
    sounddevice = _portaudio()
    with _LOCK:
        if any(output.is_active for output in _OUTPUTS):
            return
        for output in list(_OUTPUTS):
            output.close()
        try:
            sounddevice._terminate()
            sounddevice._initialize()
        except sounddevice.PortAudioError as error:
            raise OutputError("The sound devices cannot be listed.") from error


def _portaudio() -> Any:
    try:
        import sounddevice
    except OSError as error:
        raise OutputError("The library PortAudio is missing (install libportaudio2).") from error
    return sounddevice


class SystemOutput:
    """Plays on a sound device; its rate and channels are met by resampling and mixing where they must.

    Parameters
    ----------
    choice : Choice
        Which device, how much latency, and how much at once.

    Raises
    ------
    OutputError
        On construction, if PortAudio is not installed or there is no such device.
    """

    def __init__(self, choice: Choice = Choice()) -> None:  # noqa: B008 - it is immutable
        refresh()
        sounddevice = _portaudio()
        self._sounddevice = sounddevice
        self._choice = choice
        self._stream: Any = None
        self._form = (0, 0)
        self._resampler: soxr.ResampleStream | None = None
        self._out_channels = 2
        try:
            device = sounddevice.query_devices(choice.device or None, "output")
        except (sounddevice.PortAudioError, ValueError) as error:
            named = f"The sound device {choice.device} is not there." if choice.device else "There is no sound device."
            raise OutputError(named) from error
        _OUTPUTS.add(self)
        self._most_channels = int(device["max_output_channels"])
        self._device_rate = int(device["default_samplerate"])
        self.name = str(device["name"])

    def open(self, rate: int, channels: int) -> None:
        """Open the device at this rate, or at its own if it refuses."""
        self.close()
        self._form = rate, channels
        self._out_channels = min(max(2, channels), self._most_channels)
        try:
            self._stream = self._opened(rate)
            self._resampler = None
        except OutputError:
            self._stream = self._opened(self._device_rate)
            self._resampler = self._new_resampler()

    def write(self, block: Block) -> None:
        """Play the block; waits while the device's buffer is full."""
        if self._stream is None:
            self.open(*self._form)  # it was closed to look for other devices
        sound = _mixed(block, self._out_channels)
        if self._resampler is not None:
            sound = self._resampler.resample_chunk(sound)
        self._play(sound)

    def latency_frames(self) -> int:
        """Return the frames that are in the device and on their way through the change of rate."""
        stream, resampler = self._stream, self._resampler
        if stream is None:
            return 0
        seconds = stream.latency + (resampler.delay() / self._device_rate if resampler is not None else 0.0)
        return round(seconds * self._form[0])

    def drain_to(self, frames: int) -> None:
        """A device's own latency was chosen when it was opened."""

    def flush(self) -> None:
        """Let the buffer run out and stop; what is still on its way through the change of rate is played first."""
        if not self.is_active:
            return
        if self._resampler is not None:
            self._play(self._resampler.resample_chunk(np.zeros((0, self._out_channels), np.float32), last=True))
            self._resampler = self._new_resampler()
        self._stream.stop()

    @property
    def is_active(self) -> bool:
        """Whether it plays."""
        return self._stream is not None and bool(self._stream.active)

    def close(self) -> None:
        """Let go of the device."""
        if self._stream is not None:
            self._stream.close()
            self._stream = None

    def _play(self, sound: Block) -> None:
        try:
            with _LOCK:
                if not self._stream.active:
                    self._stream.start()
            self._stream.write(np.ascontiguousarray(np.clip(sound, -1.0, 1.0)))
        except self._sounddevice.PortAudioError as error:
            raise OutputError(f"The sound device {self.name} has gone.") from error

    def _new_resampler(self) -> soxr.ResampleStream:
        return soxr.ResampleStream(self._form[0], self._device_rate, self._out_channels, dtype="float32")

    def _opened(self, rate: int) -> Any:
        try:
            return self._sounddevice.OutputStream(
                samplerate=rate,
                channels=self._out_channels,
                dtype="float32",
                latency=self._choice.latency,
                blocksize=self._choice.buffer_frames,
                device=self._choice.device or None,
            )
        except (self._sounddevice.PortAudioError, ValueError) as error:
            raise OutputError(f"The sound device {self.name} cannot play at {rate} Hz.") from error


def _mixed(block: Block, channels: int) -> Block:
    """Return a block for ``channels`` channels: one goes to all, too many are added up in turn."""
    count = block.shape[1]
    if count == channels:
        return block
    if count == 1:
        return np.repeat(block, channels, axis=1)
    mixed = np.zeros((len(block), channels), np.float32)
    for channel in range(count):
        mixed[:, channel % channels] += block[:, channel]
    return mixed / np.float32(-(-count // channels))
