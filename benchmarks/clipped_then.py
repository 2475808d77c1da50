"""Clipping that went through something after it was cut off: levels that moved, a bent curve, coders.

Told for each: the share of clipped samples that is found and of found ones that are clipped, the prognosis, and what
declipping by a quick curve gains over what came, and would have gained at once after the clipping.
"""

from __future__ import annotations

import io
from collections import Counter, defaultdict
from zlib import crc32

import av
import numpy as np
import soundfile
import soxr
from scipy.ndimage import maximum_filter1d
from scipy.signal import fftconvolve

from benchmarks.corpus import as_a_file, clean
from benchmarks.planting import clip_at
from umbrick.core.mend.plan import carried_out, planned
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_SHARES = (0.005, 0.03)


def _ridden(sound, rate, random):
    """A fader that is ridden: gains up to 6 dB apart, half a second to three seconds from one to the next."""
    times = np.cumsum(random.uniform(0.5, 3.0, 200))
    gain_db = np.interp(np.arange(len(sound)) / rate, times, random.uniform(-9, -3, 200))
    return 10 ** (gain_db / 20)


def _controlled(sound, rate, random):
    """A camera's gain control: down within 50 ms when it gets loud, up within a second."""
    hop = round(0.01 * rate)
    level = np.abs(sound).max(axis=1)[: len(sound) // hop * hop].reshape(-1, hop).max(axis=1)
    gain, gains = 1.0, []
    for value in level:
        wanted = min(1.5, 0.4 / max(value, 0.05))
        gain += (wanted - gain) * (0.01 / 0.05 if wanted < gain else 0.01 / 1.0)
        gains.append(gain)
    return 0.8 * np.interp(np.arange(len(sound)), np.arange(len(gains)) * hop, gains)


def _bent(sound):
    """A curve that bends before it cuts off."""
    return np.tanh(1.2 * sound) / np.tanh(1.2)


def _coded(codec, container, bits_a_second, rate_wanted=None):
    def through(sound, rate):
        to = rate_wanted or rate
        wave = soxr.resample(sound, rate, to) if to != rate else sound
        file = io.BytesIO()
        with av.open(file, "w", format=container) as out:
            stream = out.add_stream(codec, rate=to)
            stream.bit_rate = bits_a_second
            stream.layout = "mono" if wave.shape[1] == 1 else "stereo"
            resampler = av.AudioResampler(stream.format, stream.layout, to, stream.frame_size or 1024)
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(wave.T, np.float32), "fltp", stream.layout.name)
            frame.rate = to
            for part in [*resampler.resample(frame), *resampler.resample(None)]:
                out.mux(stream.encode(part))
            out.mux(stream.encode(None))
        file.seek(0)
        with av.open(file) as coming:
            parts = [f.to_ndarray() for f in coming.decode(audio=0)]
        made = np.concatenate(parts, axis=1)
        made = made.T if made.shape[0] == wave.shape[1] else made.reshape(-1, wave.shape[1])
        made = made.astype(float) if made.dtype.kind == "f" else made / 32768
        return _aligned(wave, made), to

    return through


def _mp3(sound, rate):
    file = io.BytesIO()
    soundfile.write(file, sound, rate, format="MP3", compression_level=0.5)
    file.seek(0)
    return _aligned(sound, soundfile.read(file, always_2d=True)[0]), rate


def _aligned(sound, made):
    """Return a sound moved to where another one lies."""
    size = min(len(sound), len(made), 1 << 18)
    across = fftconvolve(made[:size, 0], sound[:size, 0][::-1])
    late = int(np.argmax(across)) - (size - 1)
    made = made[late:] if late >= 0 else np.pad(made, ((-late, 0), (0, 0)))
    return np.pad(made, ((0, max(0, len(sound) - len(made))), (0, 0)))[: len(sound)]


def _gained(curve):
    def after(clipped, driven, rate, random):
        gain = curve(clipped, rate, random)[:, np.newaxis]
        return clipped * gain, driven * gain, rate

    return after


def _through(coder):
    def after(clipped, driven, rate, random):
        made, to = coder(0.7 * clipped, rate)
        truth = 0.7 * (soxr.resample(driven, rate, to) if to != rate else driven)
        return made, truth, to

    return after


def _at_once(clipped, driven, rate, random):
    return clipped, driven, rate


AFTER = {
    "at once": ("both", _at_once),
    "upper side only": ("upper", _at_once),
    "a fader ridden": ("both", _gained(_ridden)),
    "a gain control": ("both", _gained(_controlled)),
    "MP3": ("both", _through(_mp3)),
    "AAC at 160 kbit/s": ("both", _through(_coded("aac", "adts", 160_000))),
    "Opus at 96 kbit/s": ("both", _through(_coded("libopus", "ogg", 96_000, 48000))),
    "bent before": ("both", _at_once),
}


def run(files) -> None:
    """Print it for each process, in the mean over all recordings and both depths."""
    rows, grades = defaultdict(list), defaultdict(Counter)
    for path in files:
        sound, rate = clean(path)
        for share in _SHARES:
            for name, (sides, after) in AFTER.items():
                random = np.random.default_rng(crc32(f"{path.stem} {name}".encode()))
                shaped = _bent(sound / np.abs(sound).max()) if name == "bent before" else sound
                clipped, mask = clip_at(shaped, -1.0, share, sides)
                gain = 10 ** (-1 / 20) / max(float(np.quantile(np.abs(shaped), 1 - share)), 1e-6)
                came, truth, to = after(clipped, shaped * gain, rate, random)
                if to != rate:
                    mask = soxr.resample(mask.astype(float), rate, to) > 0.5
                rows[name].append(_measured(came, truth, mask[: len(came)], to, grades[name]))
    for name, values in rows.items():
        found, right, gain_db = np.mean(values, axis=0)
        told = ", ".join(f"{grade} {count}" for grade, count in sorted(grades[name].items()))
        print(f"{name:18s} found {found:5.3f}, right {right:5.3f}, gains {gain_db:5.1f} dB; prognosis {told}")


def _measured(came, truth, mask, rate, grades):
    source = as_a_file(came, rate)
    survey = Surveyor(source, 24, [KINDS["clipping"]]).run()
    findings = survey.sifted({})
    grades[survey.measures({}).prognosis.grade] += 1
    marked = np.zeros(came.shape, bool)
    for finding in findings:
        marked[finding.start : finding.stop, list(finding.channels)] = True
    near = maximum_filter1d(mask, 3, axis=0)
    right = float((marked & near).sum() / max(1, marked.sum())) if marked.any() else 1.0
    version = Version.of(source)
    if findings:
        plan = planned(findings, version, {"clipping": "Linear prediction"})
        done = carried_out(version, plan, findings)
        version = done.mended.version if done.mended else version
    mended = version.read(0, version.frames)
    size = min(len(mended), len(truth))
    before, after = (float(np.sum((made[:size] - truth[:size])[mask[:size]] ** 2)) + 1e-9 for made in (came, mended))
    return float((marked & mask).sum() / max(1, mask.sum())), right, 10 * np.log10(before / after)
