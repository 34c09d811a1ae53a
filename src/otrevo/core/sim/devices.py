"""Stand-ins for all devices but the cameras: own clocks, unknown mounting, drift, noise and lost packets."""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import rotvec_from_quaternion
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.hands.gloves import FINGERS
from otrevo.core.sim.audio import ltc_track, room_track
from otrevo.core.sim.motions import band_noise
from otrevo.core.sim.recorded import RecordedStream
from otrevo.core.sim.suit import make_suit, sense


@dataclass(frozen=True)
class Clock:
    """Sample i of a device is taken at start_s + i / rate * (1 + drift) true seconds; stamps show the true timecode."""

    rate_hz: float
    start_s: float
    drift_ppm: float

    def true_times(self, until_s):
        count = int((until_s - self.start_s) * self.rate_hz / (1 + 1e-6 * self.drift_ppm))
        return self.start_s + np.arange(count) / self.rate_hz * (1 + 1e-6 * self.drift_ppm)

    def stamps(self, times, midnight_s, rng, every_s=0.25, jitter_s=0.0001, wrong=0.03):
        """(K, 2): sample number and seconds of day shown, a few of them wrong."""
        number = np.arange(0, len(times), max(1, int(every_s * self.rate_hz)))
        shown = midnight_s + times[number] + rng.normal(0, jitter_s, len(number))
        bad = rng.random(len(number)) < wrong
        shown[bad] += rng.choice([-1.0, 1.0, 0.04], bad.sum())
        return np.stack([number.astype(float), shown % 86400.0], axis=1)


SOUND_DRIFT_PPM = 40.0


def device_stream(device, performance, performer_seed, take_seed, fmt, timecode_frame):
    """(RecordedStream, Clock or None) of one Device in a take; everything it draws is its own and the take's length no matter.

    A device nobody has written a stand-in for sends smooth noise of its shape.
    """
    rng = np.random.default_rng([take_seed, 97, *device.id.encode()])
    if device.kind == "audio":
        return _sound(device, performance, take_seed, fmt, timecode_frame), None
    zero = float(fmt.seconds(timecode_frame))
    clock = make_clock(rng, float(device.rate))
    times, data = _MADE.get(device.id, _noise(device))(performance, performer_seed, rng, clock, take_seed)
    stamps = clock.stamps(times, zero, np.random.default_rng([take_seed, 98, *device.id.encode()]))
    return RecordedStream(device.id, device.kind, device.rate, data.astype(np.float32), stamps), clock


def _sound(device, performance, take_seed, fmt, timecode_frame):
    """Both tracks of one recorder, whose clock is a little off."""
    speed = 1 + 1e-6 * np.random.default_rng([take_seed, 99]).uniform(-SOUND_DRIFT_PPM, SOUND_DRIFT_PPM)
    seconds, hz = len(performance.motion) / float(performance.motion.rate), int(device.rate)
    if device.id == "timecode":  # it writes whole frames of code from the frame that was running at the roll
        data, _, _ = ltc_track(fmt, timecode_frame, seconds, hz, speed=speed, seed=take_seed)
    else:
        data = room_track(seconds, performance.clap_s * speed, hz, take_seed)
    return RecordedStream(device.id, device.kind, device.rate, data, np.zeros((0, 2)))


def _noise(device):
    def make(performance, performer_seed, rng, clock, take_seed):
        times = clock.true_times((len(performance.motion) - 1) / float(performance.motion.rate))
        data = band_noise(rng, len(times), device.width, clock.rate_hz, 0.1, 2.0)
        return times, _lose_packets(data.reshape(-1, *device.shape), rng, clock.rate_hz)

    return make


def make_clock(rng, rate_hz):
    return Clock(rate_hz, float(rng.uniform(0.02, 0.4)), float(rng.uniform(-80, 80)))


def _lose_packets(values, rng, rate_hz, share=0.004, burst_s=0.15):
    out = values.copy()
    out[rng.random(len(out)) < share] = np.nan
    if rng.random() < 0.7:
        at = int(rng.integers(0, max(1, len(out) - int(burst_s * rate_hz))))
        out[at : at + int(rng.uniform(0.3, 2) * burst_s * rate_hz)] = np.nan
    return out


def suit_stream(performance, mounting_seed, rng, clock, _seed=0):
    """Rotations and specific forces (T, 17, 7) of a suit whose filters were set to their headings shortly before the roll."""
    motion = performance.motion
    times = clock.true_times((len(motion) - 1) / float(motion.rate))
    suit = make_suit(motion.skeleton, mounting_seed)
    reading, force = sense(motion, suit, times, rng.uniform(5.0, 40.0), rng)
    knock = np.exp(-np.maximum(times - performance.clap_s, 0) / 0.02) * (times >= performance.clap_s)
    force[:, [suit.names.index("leftHand"), suit.names.index("rightHand")], 0] += 110.0 * knock[:, None]
    return times, _lose_packets(np.concatenate([reading, force], axis=2), rng, clock.rate_hz)


def glove_stream(performance, hand_seed, rng, clock, _seed=0):
    """Raw readings (T, 2, 5, 3) between about 0 and 1000 counts."""
    hand_rng = np.random.default_rng([hand_seed, 73])
    motion = performance.motion
    source = np.arange(len(motion)) / float(motion.rate)
    times = clock.true_times(source[-1])
    angle = np.zeros((len(source), 2, 5, 3))
    for hand, side in enumerate(("left", "right")):
        for f, finger in enumerate(FINGERS):
            names = ("Proximal", "Distal") if finger == "Thumb" else ("Proximal", "Intermediate")
            for k, joint in enumerate(names):
                rotvec = rotvec_from_quaternion(motion.rotation_local[:, motion.skeleton.index(side + finger + joint)])
                angle[:, hand, f, k] = np.linalg.norm(rotvec, axis=1) * np.sign(
                    -rotvec[:, 2] * (1 if hand == 0 else -1)
                )
    flat = angle.reshape(len(source), -1)
    at = np.stack([np.interp(times, source, flat[:, c]) for c in range(flat.shape[1])], 1).reshape(-1, 2, 5, 3)
    gain, offset = hand_rng.uniform(180, 420, (2, 5, 3)), hand_rng.uniform(80, 300, (2, 5, 3))
    raw = offset + gain * at + rng.normal(0, 1.5, at.shape)
    return times, _lose_packets(raw, rng, clock.rate_hz)


def face_truth(performance, seed):
    """A made-up face (T, 52) at the motion's rate: blinks, speech-like jaw, slow moods; in a warm-up all shapes in turn."""
    rng = np.random.default_rng([seed, 79])
    frames, rate = len(performance.motion), float(performance.motion.rate)
    t = np.arange(frames) / rate
    face = np.zeros((frames, len(FACE_SHAPES)))
    index = {n: i for i, n in enumerate(FACE_SHAPES)}
    at = 0.8
    while at < t[-1]:
        blink = np.exp(-(((t - at) / 0.07) ** 2))
        for side in ("Left", "Right"):
            face[:, index["eyeBlink" + side]] += blink
        at += rng.uniform(1.5, 4.5)
    talk = np.clip(band_noise(rng, frames, 1, rate, 0.05, 0.3)[:, 0], 0, 1)
    jaw = np.clip(0.35 * band_noise(rng, frames, 1, rate, 1.5, 4)[:, 0] + 0.2, 0, 1) * talk
    face[:, index["jawOpen"]] = jaw
    face[:, index["mouthFunnel"]] = 0.5 * np.clip(np.roll(jaw, int(0.08 * rate)), 0, 1)
    for name in ("mouthSmileLeft", "mouthSmileRight", "browInnerUp", "browDownLeft", "browDownRight", "mouthPucker"):
        face[:, index[name]] += np.clip(0.4 * band_noise(rng, frames, 1, rate, 0.05, 0.4)[:, 0], 0, 1)
    if performance.name == "warm-up":  # the face goes through its range as well, one shape after the other
        begins = np.linspace(4.0, t[-1] - 4.0, face.shape[1])
        part = np.clip((t[:, None] - begins) / 1.2, 0, 1)
        face += rng.uniform(0.85, 1.0, face.shape[1]) * np.sin(np.pi * part) ** 2
    return np.clip(face, 0, 1)


def face_stream(performance, face_seed, rng, clock, seed):
    """Readings (T, 52) of one performer's face camera: own neutral and ranges, drop-outs."""
    own = np.random.default_rng([face_seed, 83])
    truth = face_truth(performance, seed)
    source = np.arange(len(truth)) / float(performance.motion.rate)
    times = clock.true_times(source[-1])
    at = np.stack([np.interp(times, source, truth[:, c]) for c in range(truth.shape[1])], 1)
    neutral, span = own.uniform(0, 0.12, truth.shape[1]), own.uniform(0.5, 0.95, truth.shape[1])
    raw = neutral + span * at + rng.normal(0, 0.006, at.shape)
    return times, _lose_packets(raw, rng, clock.rate_hz, share=0.0, burst_s=0.2)


_MADE = {"suit": suit_stream, "gloves": glove_stream, "face": face_stream}
