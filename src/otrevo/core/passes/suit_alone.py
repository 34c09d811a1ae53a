"""Warm-ups and takes of a performer in a suit without markers, as the passes Warm-up and Solve go through them."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.devices.suit import device_start_s, exchanged_snags, fault_snag, suit_recording_of
from otrevo.core.errors import InputError
from otrevo.core.inertial.calibrate import calibrate_wearer
from otrevo.core.inertial.documents import suit_to_document
from otrevo.core.inertial.solve import solve_suit
from otrevo.core.inertial.sure import unknown_bones
from otrevo.core.passes.body_tracks import body_tracks, completed, device_tracks, uncertainty_track, worn_devices
from otrevo.core.passes.contract import Outcome, SampleClock
from otrevo.core.snags import Snag, lost_snags
from otrevo.core.words import bones_in_a_row, in_words

UNSURE_DEG = 8.0
SLOPPY_DEG = 15.0


def has_suit_alone(material):
    """Whether there is a suit and nothing that cameras saw."""
    seen = material.track("rebuild", "optical") or material.recorded("optical") or material.track("label", "labelled")
    return seen is None and material.recorded("suit") is not None


def wears_suit_alone(performer):
    """Whether a PerformerCalibration has a suit and no markers; cameras may have seen somebody else."""
    return performer is not None and "suit" in performer.devices and not performer.marker_names


def calibrate(material, report):
    """The Outcome of a warm-up: a performer by their height and their suit, and whatever else they wear."""
    measures = {"height_m": material.height_m} | dict(material.measures)
    recording = suit_recording_of(material.recorded("suit"))
    skeleton, found, notes = calibrate_wearer(recording, measures, lambda s: report(0.9 * s))
    figures = {
        "suit_residual_deg": round(float(np.sqrt((found.residual_deg**2).mean())), 2), "sensors": len(found.names),
        "poses": sorted({kind for kind, *_ in found.poses}), "exchanged": [list(p) for p in found.exchanged],
        "notes": [*notes, *found.notes],
    }  # fmt: skip
    devices, end = {"suit": suit_to_document(found)}, material.duration_s
    snags = exchanged_snags(devices["suit"], end)
    unknown = unknown_bones(found.names)
    figures["unknown_joints"] = list(unknown)
    if unknown:
        snags.append(Snag("no sensor", "suit", 0.0, end, 1.0, f"no sensor tells how {bones_in_a_row(unknown)} are turned; they stay as "
                          "they usually are", "a sensor on each limb"))  # fmt: skip
    for name, sloppy, sd in zip(found.names, found.residual_deg, found.sd_deg, strict=True):
        if sloppy > SLOPPY_DEG or sd > UNSURE_DEG:
            snags.append(Snag("sensor unsure", "suit", 0.0, end, max(sloppy / SLOPPY_DEG, sd / UNSURE_DEG),
                              f"{in_words(name)}: {sloppy:.0f}° off the poses, known within {sd:.0f}°", f"{SLOPPY_DEG:.0f}° and {UNSURE_DEG:.0f}°",
                              name))  # fmt: skip
    for device in DEVICES:
        stream = material.recorded(device.id) if device.calibrate and device.id != "suit" else None
        if stream is None:
            continue
        try:
            devices[device.id] = device.calibrate(stream, None)
        except InputError as error:
            snags.append(Snag("not calibrated", device.id, 0.0, end, 3.0, f"{device.words}: {error}", "calibrated"))
    figures["devices"] = {d.id: d.says(devices[d.id])[0] for d in DEVICES if d.says and devices.get(d.id)}
    performer = PerformerCalibration(
        material.height_m, skeleton, "", (), (), np.zeros((0, 3)), figures, {k: v for k, v in devices.items() if v}
    )
    return Outcome((), figures, tuple(snags), performer.to_document())


def solve(material, performer, level_floor, report):
    """The Outcome of a take that only a suit tells of."""
    stream = material.recorded("suit")
    if stream is None:
        raise InputError("The take has neither markers of this performer nor their suit; expected one of them.")
    recording = suit_recording_of(stream)
    solution = solve_suit(recording, performer, level_floor, lambda s: report(0.8 * s))
    stretch = float(stream.rate) / stream.clock.hz  # seconds of the take in one of the suit's
    clock = SampleClock(
        stream.clock.start_s + stretch * (recording.start_s - device_start_s(stream)), recording.rate_hz / stretch
    )
    rate, worn = solution.motion.rate, worn_devices(material, performer)
    motion = completed(solution.motion, worn, performer, clock.times(len(solution.motion)))
    tracks = body_tracks(motion, performer, rate, clock)
    usual_m = np.median(solution.sd_m, axis=0)
    tracks.append(uncertainty_track(BODY_BONES, solution.sd_m, usual_m, solution.sd_step, Fraction(rate), clock))
    tracks += device_tracks(worn, performer, material.duration_s)
    report(0.95)
    lost = ~np.isfinite(recording.rotation[..., 0])
    lost[lost.mean(axis=1) > 0.5] = False  # the whole suit was away, which the line-up says
    snags = lost_snags(lost, recording.names, clock.hz, clock.start_s)
    snags += [fault_snag(f, clock.times(len(solution.motion)), "its neighbours") for f in solution.faults]
    snags += [Snag("suit", "suit", 0.0, material.duration_s, 1.0, note, "nothing odd") for note in solution.notes]
    figures = solution.figures | {"suit_alone": True, "joint_sd_mm": float(1000 * np.median(solution.sd_m))}
    return Outcome(tuple(tracks), figures, tuple(snags))
