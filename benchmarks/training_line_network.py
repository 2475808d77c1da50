"""Trains the network that hears concealed packets: ``python -m benchmarks.training_line_network VOICES [--passes N]``.

VOICES is a folder of recordings, the more voices the better; names that begin with ``music`` go over coders for all
sound only. What is shipped was trained on a good hour of eleven speakers in seven languages and ten minutes of music,
eleven times over other coders, losses, levels and noises; the recordings that the benchmarks are run on were not among
them, nor were two of the speakers. At last it hears, too, what is clean but unusual, and made-up tones. Besides the
coders (see ``speech_coders``) it needs PyTorch, which Umbrick does not.
"""

from __future__ import annotations

import argparse
import io
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile
import soxr

from benchmarks.packet_loss import bursts, over_a_line, single_losses
from benchmarks.speech_coders import coders
from benchmarks.unusual import UNUSUAL
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.levels.fine_bands import hop_frames
from umbrick.core.survey.packets.line_features import FEATURES, line_features
from umbrick.core.survey.packets.line_network import DILATIONS, levelled
from umbrick.core.survey.streaming import blocks

_PART_SECONDS = 15
_AFTER_SECONDS = 0.15
"""For so long after a loss a decoder is not yet what it was: nothing is learned there."""

_HARD = ("GSM", "G.729", "AMR 12.2", "AMR 5.9", "Opus voice 24 kbit/s")
_CHANNELS, _STEPS, _BATCH, _ROWS = 40, 6000, 48, 512
_UNUSUAL_SEEDS, _TONES = 3, 120
_UNUSUAL_FROM, _UNUSUAL_SHARE = 0.75, 0.35
"""From this share of the steps on, so many of what is learned from are sounds that no line has touched."""
_MADE_UP_COUNTS = 3.0
_WEIGHTS = Path("umbrick/core/survey/packets/line_network.npz")


def features_of(wave, rate):
    """Return the features of all of a wave."""
    source = ArraySource(np.ascontiguousarray(wave[:, np.newaxis], np.float32), rate, "s")
    return np.concatenate([line_features(block) for block in blocks(source)])


def answers(line, rows, rate):
    """Return for each row 1 where it was made up and that is heard, 0 where not, −1 where nothing is to be learned."""
    scale, known = rate / line.rate / hop_frames(rate), np.zeros(rows, np.int8)
    for loss in line.losses:
        after = int(loss.stop * scale + _AFTER_SECONDS * rate / hop_frames(rate))
        known[max(0, int(loss.start * scale) - 1) : after + 1] = -1
    for loss in line.losses:
        if loss.is_audible:
            known[int(np.ceil(loss.start * scale)) : int(loss.stop * scale) + 1] = 1
    return known


def _afterwards(waves, rate, random):
    """Return waves at another rate, or coded once more, or as they are."""
    way = random.choice(["as it is", "as it is", "rate", "MP3"])
    if way == "rate":
        to = int(random.choice([8000, 16000, 22050, 44100, 48000]))
        to = 44100 if to < 0.9 * rate and rate > 16000 else to
        return [soxr.resample(wave, rate, to) for wave in waves], to
    if way == "MP3" and rate >= 16000:
        coded = []
        for wave in waves:
            file = io.BytesIO()
            soundfile.write(file, wave, rate, format="MP3", compression_level=float(random.choice([0.3, 0.7])))
            file.seek(0)
            coded.append(soundfile.read(file)[0])
        return coded, rate
    return waves, rate


def _examples(job):
    """Return features and answers of every part of a recording, each with losses and without."""
    path, number = job
    sound, rate = soundfile.read(path, always_2d=True)
    wave, known = sound.mean(axis=1), dict(coders())
    random = np.random.default_rng([number, sum(map(ord, path.stem))])
    names = [name for name in sorted(known) if not path.stem.startswith("music") or "Opus" in name]
    names = [name for name in names if known[name].rate <= max(rate, 16000)] or names
    weights = np.array([0.4 if "G.711" in name else 2.0 if name in _HARD else 1.0 for name in names])
    made, part = [], _PART_SECONDS * rate
    for start in range(round(number * 2.7 * rate), len(wave) - part, part):
        coder = known[names[int(random.choice(len(names), p=weights / weights.sum()))]]
        noise = 10 ** (random.uniform(-80, -40) / 20) if random.random() < 0.7 else 1e-5
        spoken = wave[start : start + part] + noise * random.standard_normal(part)
        seconds = coder.packet / coder.rate
        lose = single_losses if random.random() < 0.5 else bursts
        line = over_a_line(spoken, rate, coder, lose(random, int(_PART_SECONDS / seconds), seconds))
        gain = 10 ** (random.uniform(-15, 3) / 20)
        (lossy, whole), to = _afterwards([gain * line.lossy, gain * line.whole], line.rate, random)
        for sent, is_lossy in ((lossy, True), (whole[: len(lossy)], False)):
            rows = levelled(features_of(sent, to))
            made.append((rows, answers(line, len(rows), to) if is_lossy else np.zeros(len(rows), np.int8)))
    return made


def _unusual(job):
    """Return features, and that nothing was made up, of the clean but unusual sounds, made of a voice and music."""
    voice, music, seed = job
    random, made = np.random.default_rng(1000 + seed), []
    bases = []
    for path in (voice, music):
        sound, rate = soundfile.read(path, always_2d=True)
        start = int(random.integers(max(1, len(sound) - 12 * rate)))
        bases.append((sound[start : start + 12 * rate].mean(axis=1), rate))
    for make in UNUSUAL.values():
        if (found := make(random, *bases)) is not None:
            sound, rate, _ = found
            made.append(_heard(np.atleast_2d(sound.T).mean(axis=0), rate))
    return made


def _tones(random):
    """Return features, and that nothing was made up, of a tone with overtones whose pitch and strength change."""
    rate = int(random.choice([8000, 16000, 44100, 48000]))
    t = np.arange(8 * rate) / rate
    pitch = random.uniform(80, 260) * (1 + random.choice([0.0, 0.15]) * np.sin(2 * np.pi * random.uniform(0.2, 3) * t))
    phase, formants = 2 * np.pi * np.cumsum(pitch) / rate, random.uniform(300, 2500, 3)
    overtones = [number for number in range(1, 30) if 1.2 * number * pitch[0] < 0.45 * rate]
    wave = sum(
        float(np.sum(1 / (1 + ((number * pitch[0] - formants) / 120) ** 2))) * np.sin(number * phase)
        for number in overtones
    )
    wave = wave * np.clip(2 * np.sin(2 * np.pi * random.uniform(0.5, 4) * t) + random.uniform(0, 1), 0, 1)
    noise = 10 ** (random.uniform(-100, -45) / 20) * random.standard_normal(len(t))
    return _heard(wave / np.abs(wave).max() * random.uniform(0.05, 0.9) + noise, rate)


def _heard(wave, rate):
    rows = levelled(features_of(wave, rate))
    return rows, np.zeros(len(rows), np.int8)


def _batch(examples, unusual, unusual_share, random, mean, spread):
    rows, known = [], []
    while len(rows) < _BATCH:
        among = unusual if unusual and random.random() < unusual_share else examples
        some, told = among[int(random.integers(len(among)))]
        if len(some) > _ROWS:
            first = int(random.integers(len(some) - _ROWS))
            own = (some[first : first + _ROWS] - mean) / spread
            rows.append(own + 0.05 * random.standard_normal(own.shape) * (random.random() < 0.3))
            known.append(told[first : first + _ROWS])
    return np.array(rows, np.float32), np.array(known, np.float32)


def trained(examples, unusual, steps):
    """Return the weights of a network trained on examples, and on unusual ones at last, as ``line_network`` keeps
    them."""
    import torch
    from torch import nn
    from torch.nn import functional

    class Network(nn.Module):
        def __init__(self):
            super().__init__()
            sizes = [FEATURES, *[_CHANNELS] * len(DILATIONS)]
            self.layers = nn.ModuleList(
                nn.Conv1d(sizes[n], _CHANNELS, 5, dilation=dilation, padding=2 * dilation)
                for n, dilation in enumerate(DILATIONS)
            )
            self.last, self.dropout = nn.Conv1d(_CHANNELS, 1, 1), nn.Dropout(0.1)

        def forward(self, rows):
            for number, layer in enumerate(self.layers):
                made = torch.relu(layer(rows))
                rows = self.dropout(rows + made if number else made)
            return self.last(rows)[:, 0]

    torch.manual_seed(0)
    all_rows = np.concatenate([rows for rows, _ in examples])
    mean, spread = all_rows.mean(axis=0), all_rows.std(axis=0) + 1e-3
    network, random = Network(), np.random.default_rng(1)
    optimizer = torch.optim.AdamW(network.parameters(), 2e-3, weight_decay=1e-3)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimizer, 4e-3, total_steps=steps)
    for step in range(steps):
        share = _UNUSUAL_SHARE if step >= _UNUSUAL_FROM * steps else 0.0
        rows, known = map(torch.tensor, _batch(examples, unusual, share, random, mean, spread))
        counts = (known >= 0).float() * torch.where(known == 1, _MADE_UP_COUNTS, 1.0)
        losses = functional.binary_cross_entropy_with_logits(
            network(rows.transpose(1, 2)), known.clamp(min=0), reduction="none"
        )
        loss = (losses * counts).sum() / counts.sum()
        optimizer.zero_grad()
        loss.backward()
        optimizer.step()
        schedule.step()
        if step % 500 == 0:
            print(f"{step} of {steps}: {float(loss.detach()):.4f}", flush=True)
    kept = {}
    for number, layer in enumerate([*network.layers, network.last]):
        weights, bias = layer.weight.detach().numpy().transpose(2, 1, 0), layer.bias.detach().numpy()
        if number == 0:
            # What the features are brought to is part of the first layer.
            bias = bias - np.einsum("tio,i->o", weights, mean / spread)
            weights = weights / spread[np.newaxis, :, np.newaxis]
        kept[f"weights_{number}"], kept[f"bias_{number}"] = weights.astype(np.float32), bias.astype(np.float32)
    return kept


def main() -> None:
    """Make the examples, train, and write the weights down."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("voices", type=Path)
    parser.add_argument("--passes", type=int, default=11)
    parser.add_argument("--steps", type=int, default=_STEPS)
    parser.add_argument("--out", type=Path, default=_WEIGHTS)
    arguments = parser.parse_args()
    paths = sorted(path for path in arguments.voices.iterdir() if path.suffix in (".wav", ".flac", ".ogg"))
    music = [path for path in paths if path.stem.startswith("music")] or paths
    voices = [path for path in paths if path not in music] or paths
    jobs = [(path, number) for number in range(arguments.passes) for path in paths]
    others = [(voices[seed % len(voices)], music[seed % len(music)], seed) for seed in range(_UNUSUAL_SEEDS)]
    random = np.random.default_rng(7)
    with ProcessPoolExecutor() as pool:
        examples = [example for made in pool.map(_examples, jobs) for example in made]
        unusual = [example for made in pool.map(_unusual, others) for example in made]
    unusual += [_tones(random) for _ in range(_TONES)]
    np.savez(arguments.out, **trained(examples, unusual, arguments.steps))


if __name__ == "__main__":
    main()
