"""The system's output against a stand-in for PortAudio, which is not there on every machine."""

import sys
import types

import numpy as np
import pytest
import soxr

from umbrick.playback.output import SIMULATED, Choice, OutputError, device_names, output_for
from umbrick.playback.simulated import SimulatedOutput


class PortAudioError(Exception):
    pass


class Stream:
    def __init__(self, system, samplerate, channels, dtype, latency, blocksize, device):
        if samplerate not in system.rates:
            raise PortAudioError("Invalid sample rate")
        self.how = latency, blocksize, device
        device = system
        self.device, self.samplerate, self.channels = device, samplerate, channels
        self.active = False
        self.latency = 0.02
        self.written = []
        device.streams.append(self)

    def start(self):
        self.active = True

    def stop(self):
        self.active = False

    def close(self):
        self.active = False
        self.device.closed += 1

    def write(self, block):
        if self.device.unplugged:
            raise PortAudioError("Device unavailable")
        assert block.dtype == np.float32
        assert block.flags.c_contiguous
        assert block.shape[1] == self.channels
        self.written.append(block.copy())


class Device(types.ModuleType):
    """A ``sounddevice`` with one loudspeaker."""

    PortAudioError = PortAudioError

    def __init__(self, rates=(44100, 48000), channels=2, present=True):
        super().__init__("sounddevice")
        self.rates, self.channels, self.present = rates, channels, present
        self.streams, self.closed, self.unplugged = [], 0, False
        self.is_listed = present

    def _terminate(self):
        assert not any(stream.active for stream in self.streams)

    def _initialize(self):
        self.is_listed = self.present

    def query_devices(self, device=None, kind=None):
        loudspeaker = {"name": "Loudspeaker", "max_output_channels": self.channels, "default_samplerate": 48000.0}
        if kind is None:
            return [loudspeaker, {"name": "Microphone", "max_output_channels": 0}]
        if not self.is_listed or device not in (None, "Loudspeaker"):
            raise PortAudioError("Error querying device -1")
        return loudspeaker

    def OutputStream(self, **how):  # noqa: N802
        return Stream(self, **how)


@pytest.fixture
def plugged(monkeypatch):
    def plug(device, choice=Choice()):  # noqa: B008
        monkeypatch.setitem(sys.modules, "sounddevice", device)
        return output_for(choice)

    return plug


def test_the_device_gets_the_samples_as_they_are(plugged):
    device = Device()
    output, note = plugged(device)
    assert (output.name, note) == ("Loudspeaker", "")
    output.open(44100, 2)
    block = np.random.default_rng(1).uniform(-1, 1, (100, 2)).astype(np.float32)
    output.write(block)
    assert np.array_equal(device.streams[0].written[0], block)
    assert device.streams[0].active
    assert output.latency_frames() == round(0.02 * 44100)
    output.flush()
    assert not device.streams[0].active
    output.close()
    assert device.closed == 1
    assert output.latency_frames() == 0


def test_mono_goes_to_both_sides_and_many_channels_are_mixed(plugged):
    device = Device()
    output, _ = plugged(device)
    output.open(48000, 1)
    output.write(np.full((4, 1), 0.5, np.float32))
    assert np.array_equal(device.streams[0].written[0], np.full((4, 2), 0.5))
    output.open(48000, 4)
    output.write(np.tile(np.array([[0.1, 0.2, 0.3, 0.4]], np.float32), (4, 1)))
    assert np.allclose(device.streams[1].written[0], [[0.2, 0.3]] * 4)
    output.close()


def test_what_passes_full_scale_is_held_there(plugged):
    device = Device()
    output, _ = plugged(device)
    output.open(48000, 2)
    output.write(np.full((4, 2), 1.7, np.float32))
    assert device.streams[0].written[0].max() == 1.0
    output.close()


def test_a_rate_the_device_refuses_is_resampled(plugged):
    device = Device()
    output, _ = plugged(device)
    output.open(96000, 2)
    assert device.streams[0].samplerate == 48000
    t = np.arange(96000) / 96000
    sound = np.repeat(0.5 * np.sin(2 * np.pi * 440 * t)[:, None], 2, axis=1).astype(np.float32)
    for part in np.split(sound, 8):
        output.write(part)
    played = np.concatenate(device.streams[0].written)
    expected = soxr.resample(sound, 96000, 48000)
    assert len(played) < len(expected)
    assert output.latency_frames() >= 2 * (len(expected) - len(played))
    output.flush()
    played = np.concatenate(device.streams[0].written)
    assert len(played) == len(expected)
    assert np.abs(played - expected).max() < 0.01
    output.write(np.zeros((9600, 2), np.float32))
    assert not np.concatenate(device.streams[0].written)[len(played) :].any(), "what was played before came out again"
    output.close()


def test_a_device_that_is_plugged_in_later_is_found_and_one_that_plays_is_not_disturbed(plugged):
    device = Device(present=False)
    assert plugged(device)[0].name == SIMULATED
    device.present = True
    output, note = plugged(device)
    assert (output.name, note) == ("Loudspeaker", "")
    output.open(48000, 2)
    output.write(np.zeros((4, 2), np.float32))
    device.present = False
    device_names()
    assert device.is_listed, "the device was taken from under what plays"
    output.flush()
    device_names()
    assert not device.is_listed
    device.present = True
    output.write(np.ones((4, 2), np.float32))
    assert device.streams[-1].active
    output.close()


def test_a_device_that_can_do_nothing_or_goes_away_is_told(plugged):
    output, _ = plugged(Device(rates=()))
    with pytest.raises(OutputError, match="cannot play at 48000 Hz"):
        output.open(44100, 2)
    device = Device()
    output, _ = plugged(device)
    output.open(48000, 2)
    device.unplugged = True
    with pytest.raises(OutputError, match="Loudspeaker has gone"):
        output.write(np.zeros((4, 2), np.float32))


def test_no_device_and_no_library_fall_back_and_say_why(plugged, monkeypatch):
    output, note = plugged(Device(present=False))
    assert isinstance(output, SimulatedOutput)
    assert note.startswith("There is no sound device.")

    class Missing:
        def find_spec(self, name, *_):
            if name == "sounddevice":
                raise OSError("PortAudio library not found")

    monkeypatch.delitem(sys.modules, "sounddevice")
    monkeypatch.setattr(sys, "meta_path", [Missing(), *sys.meta_path])
    output, note = output_for(Choice())
    assert isinstance(output, SimulatedOutput)
    assert "install libportaudio2" in note


def test_a_chosen_device_gets_the_latency_and_buffer_that_were_asked_for(plugged):
    device = Device()
    output, note = plugged(device, Choice("Loudspeaker", "low", 512))
    output.open(48000, 2)
    assert (note, device.streams[-1].how) == ("", ("low", 512, "Loudspeaker"))
    assert device_names() == ["Loudspeaker"]


def test_a_missing_device_is_replaced_and_told(plugged):
    output, note = plugged(Device(), Choice("Headphones"))
    assert output.name == "Loudspeaker"
    assert "Headphones is not there" in note
    assert "goes to Loudspeaker" in note
    output, note = plugged(Device(present=False), Choice("Headphones"))
    assert output.name == SIMULATED
    assert "simulated output" in note
    output, note = plugged(Device(), Choice(SIMULATED))
    assert (output.name, note) == (SIMULATED, "")
