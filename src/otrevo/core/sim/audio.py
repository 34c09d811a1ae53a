"""Audio stand-in: an LTC track written bit by bit, and a room track with voices and the clap."""

import numpy as np

from otrevo.core.sim.motions import band_noise


def ltc_bits(fmt, frame):
    """The 80 bits of one frame label (ST 12-1), user bits zero."""
    label = fmt.label(frame)
    hh, mm, ss, ff = (int(label[i : i + 2]) for i in (0, 3, 6, 9))
    bits = np.zeros(80, dtype=np.int8)

    def put(at, width, value):
        for i in range(width):
            bits[at + i] = value >> i & 1

    put(0, 4, ff % 10)
    put(8, 2, ff // 10)
    put(10, 1, fmt.drop)
    put(16, 4, ss % 10)
    put(24, 3, ss // 10)
    put(32, 4, mm % 10)
    put(40, 3, mm // 10)
    put(48, 4, hh % 10)
    put(56, 2, hh // 10)
    bits[64:] = [0, 0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 1]
    return bits


def ltc_track(fmt, first_frame, seconds, sample_rate=48000, speed=1.0, level=0.4, noise=0.003, start_bit=0, seed=0):
    """A track of LTC and the sample at which each whole frame's first bit begins. Edges are rounded as in real gear."""
    rng = np.random.default_rng([seed, 53])
    count = int(seconds * float(fmt.rate)) + 2
    bits = np.concatenate([ltc_bits(fmt, first_frame + i) for i in range(count)])[start_bit:]
    bit = sample_rate / (80 * float(fmt.rate)) / speed
    edges = np.arange(len(bits) + 1) * bit
    flips = np.sort(np.concatenate([edges, edges[:-1][bits == 1] + bit / 2]))
    samples = np.arange(int(seconds * sample_rate))
    sign = np.where(np.searchsorted(flips, samples, side="right") % 2, 1.0, -1.0)
    kernel = np.hanning(7)
    wave = np.convolve(sign, kernel / kernel.sum(), "same") * level + rng.normal(0, noise, len(samples))
    starts = (np.arange(count) * 80 - start_bit) * bit
    whole = (starts >= 0) & (starts + 80 * bit < len(samples))
    return wave.astype(np.float32), starts[whole], np.arange(first_frame, first_frame + count)[whole]


def room_track(seconds, clap_s, sample_rate=48000, seed=0):
    """Room tone, some voice-like bursts, and one clap with its decay."""
    rng = np.random.default_rng([seed, 59])
    n = int(seconds * sample_rate)
    t = np.arange(n) / sample_rate
    wave = rng.normal(0, 0.004, n)
    envelope = np.interp(
        t, np.linspace(0, seconds, max(2, int(seconds * 5))), rng.random(max(2, int(seconds * 5))) ** 3
    )
    wave += 0.05 * envelope * band_noise(rng, n, 1, sample_rate, 180, 1400)[:, 0] * (t > clap_s + 1)
    after = np.maximum(t - clap_s, 0)
    wave += np.where(t >= clap_s, 0.8 * np.exp(-after / 0.012) * rng.normal(0, 1, n), 0.0)
    return np.clip(wave, -1, 1).astype(np.float32)
