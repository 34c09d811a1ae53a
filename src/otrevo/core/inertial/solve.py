"""Solve a take of a suit alone: headings, pose, and where the body goes."""

from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.errors import InputError
from otrevo.core.inertial.documents import suit_from_document
from otrevo.core.inertial.exchanged import put_right
from otrevo.core.inertial.magnets import find_magnets
from otrevo.core.inertial.plausible import impossible_joints
from otrevo.core.inertial.pose import SENSOR_SIGMA_RAD, fit_pose, sensed_bones
from otrevo.core.inertial.slips import find_slips
from otrevo.core.inertial.travel import find_travel

UNSENSED_DEG = 8.0  # of a joint with a bone that no sensor tells of
LOST_DEG = 15.0  # more where a sensor is lost for longer than can be bridged
SURE_EACH_S = 0.1


@dataclass(frozen=True)
class SuitSolution:
    """motion over the performer's bones, frame 0 at the recording's first sample; sd_deg: {bone: how sure its joint is, degrees, one
    sigma}; sd_m (F, B): how sure the places of BODY_BONES are from the hips, metres, of every sd_step-th frame; contacts; figures; notes;
    faults: SensorFaults, in frames of the motion.
    """

    motion: Motion
    sd_deg: dict
    sd_m: np.ndarray
    sd_step: int
    contacts: tuple
    figures: dict = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    faults: tuple = ()


def solve_suit(recording, performer, level_floor=True, progress=lambda share: None):
    """Solve one performer's take from their suit alone.

    Parameters
    ----------
    recording : SuitRecording
    performer : PerformerCalibration
        Calibrated with a suit.
    level_floor : bool
        Everything stands on one floor or on steps of it; False for climbing.
    progress : callable
        Called with the share that is done; may raise to stop.

    Returns
    -------
    SuitSolution

    Raises
    ------
    InputError
        When the performer has no suit, or the recording lacks the pelvis or half of the sensors.
    """
    whole = suit_from_document(performer.devices)
    worn = [p for p in whole.exchanged if set(p) <= set(recording.names)]
    recording = put_right(recording, worn)
    names = [n for n in recording.names if n in whole.names]
    notes = [*recording.notes, *(f"{a} and {b} are read the other way round, as in the warm-up" for a, b in worn)]
    strange = [n for n in recording.names if n not in whole.names]
    absent = [n for n in whole.names if n not in names]
    if "hips" not in names:
        raise InputError(
            "The take has no sensor on the pelvis that was calibrated; expected one, as everything else hangs on it."
        )
    if len(names) < 0.5 * len(whole.names):
        raise InputError(
            f"The take has {len(names)} of the {len(whole.names)} calibrated sensors; not known: {', '.join(absent)}."
        )
    if strange:
        notes.append(f"not calibrated, left out: {', '.join(strange)}")
    if absent:
        notes.append(f"no sensor, so these bones follow their neighbours: {', '.join(absent)}")
    if not any(n.endswith(("Foot", "LowerLeg")) for n in names):
        notes.append("no sensors below the knees, so the hips stay where they are")
    recording, calibration = recording.only(names), whole.only(names)
    slips, recording, sensed, headings = find_slips(recording, calibration)
    magnets, headings = find_magnets(recording, calibration, headings, sensed)
    progress(0.3)
    world = sensed_bones(recording, calibration, headings)
    impossible = impossible_joints(performer.skeleton, names, world)
    local = fit_pose(performer.skeleton, names, world, lambda share: progress(0.3 + 0.4 * share))
    travel = find_travel(recording, calibration, headings, performer.skeleton, local, level_floor)
    progress(0.95)
    rate = Fraction(recording.rate_hz).limit_denominator(1001)
    motion = Motion(performer.skeleton, rate, travel.root_m, travel.rotation_local)
    sure = joint_sd(names, calibration, headings)
    step = max(1, round(SURE_EACH_S * recording.rate_hz))
    placed = place_sd(world[::step], calibration, headings, recording.times_s[::step], performer.skeleton)
    lost = np.isnan(world[..., 0]).mean(axis=0)
    figures = {
        "sensors": len(names), "frames": len(motion), "rate": str(rate), "contacts": len(travel.contacts),
        "travelled_m": round(float(np.linalg.norm(np.diff(travel.root_m[::5, [0, 2]], axis=0), axis=1).sum()), 3),
        "joint_sd_deg": round(float(np.median(list(sure.values()))), 2),
        "lost_share": {n: round(float(v), 4) for n, v in zip(names, lost, strict=True) if v > 0},
    }  # fmt: skip
    contacts = tuple(
        replace(c, start=c.start / recording.rate_hz, end=c.end / recording.rate_hz) for c in travel.contacts
    )
    if impossible:
        figures["impossible_joints_deg"] = impossible
        notes.append(
            f"joints beyond what bodies can do: {', '.join(f'{j} by {v:.0f}°' for j, v in impossible.items())}; has a sensor slipped since the warm-up?"
        )
    return SuitSolution(motion, sure, placed, step, contacts, figures, tuple(notes), (*slips, *magnets))


def place_sd(world, calibration, headings, times_s, skeleton):
    """How sure joints' places are from the hips, (F, B) m over BODY_BONES, one sigma of three axes together.

    By what bones above may be off, and how long they are. world (F, S, 4): what sensors said at times_s (F,), NaN where they were lost.
    """
    heading = np.stack([np.interp(times_s, headings.times_s, column) for column in headings.sd_rad.T], axis=1)
    own = np.sqrt(np.radians(calibration.sd_deg) ** 2 + heading**2 + SENSOR_SIGMA_RAD**2)
    own[np.isnan(world[..., 0])] += np.radians(LOST_DEG)
    number = {n: s for s, n in enumerate(calibration.names)}
    variance = np.zeros((len(world), len(BODY_BONES)))
    for b, bone in enumerate(BODY_BONES):
        if bone == "hips":
            continue
        above = skeleton.names[skeleton.parents[skeleton.index(bone)]]
        angle = own[:, number[above]] if above in number else np.radians(UNSENSED_DEG)
        length = np.linalg.norm(skeleton.rest_offset_m[skeleton.index(bone)])
        variance[:, b] = (
            variance[:, BODY_BONES.index(above)] + 2 * (angle * length) ** 2
        )  # across the bone, about two axes
    return np.sqrt(variance)


def joint_sd(names, calibration, headings):
    """{bone: one sigma of its joint, child in parent, degrees}: by how well its sensor's seat and the headings are known."""
    heading = np.degrees(np.sqrt((headings.sd_rad**2).mean(axis=0)))
    own = np.sqrt(calibration.sd_deg**2 + heading**2 + np.degrees(SENSOR_SIGMA_RAD) ** 2)
    own = dict(zip(names, own, strict=True))
    parents = {"spine": "hips", "chest": "hips", "upperChest": "chest", "neck": "chest", "head": "chest"}
    out = {}
    for bone in BODY_BONES:
        side = "left" if bone.startswith("left") else "right" if bone.startswith("right") else ""
        chain = ("Shoulder", "UpperArm", "LowerArm", "Hand"), ("UpperLeg", "LowerLeg", "Foot")
        part = bone.removeprefix(side)
        above = parents.get(bone)
        for row in chain:
            if part in row:
                at = row.index(part)
                above = side + row[at - 1] if at else ("chest" if row[0] == "Shoulder" else "hips")
        if bone == "hips":
            out[bone] = own["hips"]
        elif bone in own and above in own:
            out[bone] = np.hypot(own[bone], own[above])
        else:
            out[bone] = UNSENSED_DEG
    return {bone: round(float(v), 2) for bone, v in out.items()}
