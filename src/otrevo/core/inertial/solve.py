"""Solve a take of a suit alone: headings, pose, and where the body goes."""

from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.errors import InputError
from otrevo.core.inertial.after_loss import headings_put_back
from otrevo.core.inertial.documents import suit_from_document
from otrevo.core.inertial.exchanged import put_right, rounds_of
from otrevo.core.inertial.levelled import levelled
from otrevo.core.inertial.plausible import impossible_joints
from otrevo.core.inertial.pose import fit_pose, sensed_bones
from otrevo.core.inertial.seats_in_take import seats_in_take
from otrevo.core.inertial.skin import with_whole_turns
from otrevo.core.inertial.sure import joint_sd, place_sd, unknown_bones
from otrevo.core.inertial.t_poses import realigned, shifted_since
from otrevo.core.inertial.travel import find_travel
from otrevo.core.inertial.turned_sensors import find_turned_sensors
from otrevo.core.solve.suit_faults import SensorFault
from otrevo.core.words import bones_in_a_row, in_words

SURE_EACH_S = 0.1
WORTH_SAYING = 0.15  # of a limb's turns, missed by its skin


@dataclass(frozen=True)
class SuitSolution:
    """motion over the performer's bones, frame 0 at the recording's first sample; sd_deg: {bone: how sure its joint is, degrees};
    sd_m (F, B): how sure the places of BODY_BONES are from the hips, metres, of every sd_step-th frame, both as in
    core.inertial.sure; contacts; figures; notes; faults: SensorFaults, in frames of the motion.
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
    recording = put_right(recording, whole.exchanged)
    names = [n for n in recording.names if n in whole.names]
    notes = [
        *recording.notes,
        *(f"{bones_in_a_row(r)} are read the other way round, as in the warm-up" for r in rounds_of(whole.exchanged)),
    ]
    strange = [n for n in recording.names if n not in whole.names]
    absent = [n for n in whole.names if n not in names]
    if "hips" not in names:
        raise InputError(
            "The take has no sensor on the pelvis that was calibrated; expected one, as everything else hangs on it."
        )
    if len(names) < 0.5 * len(whole.names):
        raise InputError(
            f"The take has {len(names)} of the {len(whole.names)} calibrated sensors, without {bones_in_a_row(absent)}; expected half of them."
        )
    if strange:
        notes.append(f"not calibrated, left out: {bones_in_a_row(strange)}")
    if absent:
        notes.append(f"no sensor, so these bones follow their neighbours: {bones_in_a_row(absent)}")
    if not any(n.endswith(("Foot", "LowerLeg")) for n in names):
        notes.append("no sensors below the knees, so the hips stay where they are")
    recording, calibration = recording.only(names), whole.only(names)
    recording, leaps = headings_put_back(recording, calibration)
    if leaps:
        said = ", ".join(f"{in_words(n)} at {at_s:.1f} s by {abs(np.degrees(leap)):.0f}°" for n, at_s, leap in leaps)
        notes.append(f"filters that began anew while they were not heard, their headings put back: {said}")
    faults, recording, headings = find_turned_sensors(recording, calibration, lambda share: progress(0.3 * share))
    shifted = shifted_since(recording, calibration)
    if shifted:
        calibration = realigned(calibration, shifted)
        more, recording, headings = find_turned_sensors(recording, calibration)
        slipped = {name: float(np.degrees(np.linalg.norm(turned))) for name, turned in shifted.items()}
        faults = (
            [SensorFault(n, "slipped", 0, len(recording), degrees) for n, degrees in slipped.items()] + faults + more
        )
    progress(0.3)
    level = levelled(recording, headings)
    world = sensed_bones(level, calibration, headings)
    impossible = impossible_joints(performer.skeleton, names, world)
    calibration, headings, skin = seats_in_take(recording.times_s, world, calibration, headings)
    world = with_whole_turns(names, sensed_bones(level, calibration, headings), skin)
    local = fit_pose(performer.skeleton, names, world, recording.rate_hz, lambda share: progress(0.3 + 0.4 * share))
    travel = find_travel(recording, calibration, headings, performer.skeleton, local, level_floor)
    progress(0.95)
    rate = Fraction(recording.rate_hz).limit_denominator(1001)
    motion = Motion(performer.skeleton, rate, travel.root_m, travel.rotation_local)
    sure = joint_sd(calibration, headings)
    step = max(1, round(SURE_EACH_S * recording.rate_hz))
    some = Motion(performer.skeleton, rate / step, travel.root_m[::step], travel.rotation_local[::step])
    placed = place_sd(world[::step], calibration, headings, recording.times_s[::step], some)
    lost = np.isnan(world[..., 0]).mean(axis=0)
    figures = {
        "sensors": len(names), "frames": len(motion), "rate": str(rate), "contacts": len(travel.contacts),
        "travelled_m": round(float(np.linalg.norm(np.diff(travel.root_m[::5, [0, 2]], axis=0), axis=1).sum()), 3),
        "joint_sd_deg": round(float(np.median(list(sure.values()))), 2),
        "unknown_joints": list(unknown_bones(names)),
        "skin_missed": {n: round(v, 2) for n, v in skin.items()},
        "lost_share": {n: round(float(v), 4) for n, v in zip(names, lost, strict=True) if v > 0},
    }  # fmt: skip
    slack = {n: share for n, share in skin.items() if share > WORTH_SAYING}
    if slack:
        said = ", ".join(f"{in_words(n)} by {100 * share:.0f} %" for n, share in slack.items())
        notes.append(f"skin turns less than the limb in it, which is put right: {said}")
    contacts = tuple(
        replace(c, start=c.start / recording.rate_hz, end=c.end / recording.rate_hz) for c in travel.contacts
    )
    if impossible:
        figures["impossible_joints_deg"] = impossible
        notes.append(
            f"joints beyond what bodies can do: {', '.join(f'{in_words(j)} by {v:.0f}°' for j, v in impossible.items())}; has a sensor slipped since the warm-up?"
        )
    return SuitSolution(motion, sure, placed, step, contacts, figures, tuple(notes), tuple(faults))
