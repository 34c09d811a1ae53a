"""Calibrate a suit by its warm-up alone: who has changed places, where joints lie, how sensors sit (core.inertial.seat_fit)."""

from dataclasses import replace

from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.errors import InputError
from otrevo.core.inertial.exchanged import find_exchanged, put_right
from otrevo.core.inertial.joints import Felt, felt, find_links
from otrevo.core.inertial.poses import SEAT_SD_M
from otrevo.core.inertial.seat_fit import SeatFit
from otrevo.core.inertial.stills import find_stills


def calibrate_suit_alone(recording, skeleton=None, progress=lambda share: None):
    """The SuitCalibration by a warm-up's SuitRecording.

    skeleton: the performer's, for the lengths of limbs. Raises InputError when no pose is held still, or too few sensors are there.
    """
    skeleton = skeleton or generic_skeleton()
    if "hips" not in recording.names:
        raise InputError("The suit has no sensor on the pelvis; expected one, as everything else hangs on it.")
    stills = find_stills(recording)
    if len(stills) == 0:
        raise InputError("The warm-up holds no still pose; expected arms down and a T-pose, each held for two seconds.")
    sensed = felt(recording)
    progress(0.1)
    exchanged = find_exchanged(sensed)
    progress(0.3)
    recording, sensed = put_right(recording, exchanged), _renamed(sensed, exchanged)
    first = SeatFit(recording, stills, find_links(sensed), skeleton)
    sides = first.exchanged_sides()
    if sides:
        exchanged += sides
        recording, sensed = put_right(recording, sides), _renamed(sensed, sides)
        first = SeatFit(recording, stills, find_links(sensed), skeleton)
    progress(0.4)
    links = find_links(sensed, first.expected_places(), SEAT_SD_M)
    progress(0.5)
    found = SeatFit(recording, stills, links, skeleton).solve(progress)
    notes = tuple(f"{a} and {b} have changed places; they are read the other way round" for a, b in exchanged)
    return replace(found, exchanged=tuple(exchanged), notes=found.notes + notes)


def _renamed(felt_, pairs):
    """A Felt with the names of exchanged sensors the other way round, in the same order of names."""
    other = {a: b for a, b in pairs} | {b: a for a, b in pairs}
    at = [felt_.names.index(other.get(n, n)) for n in felt_.names]
    return Felt(
        felt_.names, felt_.times_s, felt_.force[:, at], felt_.bend[:, at], felt_.known[:, at], felt_.bend_noise[at]
    )
