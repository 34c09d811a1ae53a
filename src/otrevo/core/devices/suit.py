"""Body suit: orientation and acceleration of seventeen sensors."""

from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.skeleton import rest_joints
from otrevo.core.conventions import find_runs, quaternion_rotate, slerp
from otrevo.core.devices.contract import Device, Guides, Lane
from otrevo.core.errors import InputError
from otrevo.core.inertial.beside_markers import calibrate_beside_markers
from otrevo.core.inertial.documents import clock_of, exchanged_of, suit_to_document
from otrevo.core.inertial.exchanged import limbs_of, net_pairs, pairs_of, put_right, rounds_of, worn_as
from otrevo.core.inertial.exchanged_beside_markers import find_exchanged_beside_markers
from otrevo.core.inertial.levelled import felt_in_steps
from otrevo.core.inertial.poses import SEATS, usual_seat
from otrevo.core.inertial.recording import GRAVITY_MS2, as_one_heading, suit_recording
from otrevo.core.inertial.through_occlusion import UNLIKE_RAD, stand_in
from otrevo.core.samples import held_on
from otrevo.core.snags import Snag
from otrevo.core.solve.body import held_bones
from otrevo.core.solve.carried_root import FeltAt, with_fitted_lever
from otrevo.core.solve.suit import SUIT_BONES, resample_sensor
from otrevo.core.solve.suit_clock import KNOWN_CLOCK, OWN_CLOCK, find_suit_clock
from otrevo.core.timecode.clap import clap_in_accelerations
from otrevo.core.words import bones_in_a_row, in_words

HANDS = [
    SUIT_BONES.index("leftHand"),
    SUIT_BONES.index("rightHand"),
]  # steps are felt as hard as a clap, but not by them
MAGNET_LIMIT_DEG, SLIP_LIMIT_DEG = 7.0, 10.0
BRIDGED_S = 0.2  # of lost accelerations
SURE_S, NEAR_S = 0.0005, 0.05  # motion corrects a clock that was lined up only where it is surer, and not by much


def _bones(solved):
    """Joints (T, 17, 3) and world rotations (T, 17, 4) of the suit's bones, and where markers hold them (T, 17)."""
    model = solved.performer.model()
    held = held_bones(model, solved.seen)[:, [model.skeleton.index(b) for b in SUIT_BONES]]
    joint, world = motion_joints(solved.motion)
    index = [solved.motion.skeleton.index(b) for b in SUIT_BONES]
    return joint[:, index], world[:, index], held


def _times(stream, data, solved, world, held, drift_before=None):
    """(take times (T,) of a suit's samples, figures): as they were lined up, corrected by the motion where that tells.

    drift_before: what the warm-up told of a clock that nobody has lined up, as of `find_suit_clock`.
    """
    lined_up = stream.clock.times(len(data))
    said = stream.details.get("clock")
    if said == KNOWN_CLOCK:
        return lined_up, {}
    bones_hz, hz = float(solved.motion.rate), float(stream.rate) if said == OWN_CLOCK else stream.clock.hz
    near = None if said == OWN_CLOCK else solved.times_s[0] - stream.clock.start_s
    shown = np.where(held[..., None], world, np.nan)
    found = find_suit_clock(data[..., :4], hz, shown, bones_hz, near, drift_before if said == OWN_CLOCK else None)
    if found is None and said == OWN_CLOCK:
        raise InputError(
            "The suit's clock could not be told from how it moves; expected some seconds of the same movement as the markers', "
            "or to be told how the clocks differ (--clock)."
        )
    if found is None or (near is not None and (found.sd_s > SURE_S or abs(found.offset_s - near) > NEAR_S)):
        return lined_up, {}
    figures = {"offset_s": round(found.offset_s, 5), "drift_ppm": round(found.drift_ppm, 1),
               "sd_ms": round(1000 * found.sd_s, 3), "drift_sd_ppm": round(found.drift_sd_ppm, 1), "sensors": found.sensors}  # fmt: skip
    if said == OWN_CLOCK:  # as the device shows it
        figures["offset_s"] = round(found.offset_s + device_start_s(stream), 5)
    return solved.times_s[0] + (np.arange(len(data)) / hz - found.offset_s) / found.rate, {"clock": figures}


def device_start_s(stream):
    """What the suit's own clock showed at the first sample: by its timecode, or as a file said."""
    if not len(stream.stamps):
        return stream.details.get("shown_s", stream.clock.start_s)
    number, shown = np.asarray(stream.stamps, dtype=float).T
    return float(np.median(shown - number / float(stream.rate)))


def suit_recording_of(stream):
    """The SuitRecording of a suit's stream, by its own clock. Raises InputError where it is none."""
    data, hz = stream.read().astype(float), float(stream.rate)
    count, sensors = data.shape[:2]
    known = np.isfinite(data).all(axis=2).reshape(-1)
    times = np.repeat(device_start_s(stream) + np.arange(count) / hz, sensors)
    flat, number = data.reshape(-1, 7), np.tile(np.arange(sensors), count)
    return suit_recording(times[known], number[known], SUIT_BONES, flat[known, :4], flat[known, 4:], "Suit")


def _heard(stream, exchanged=()):
    """(samples (T, 17, 7) of a suit's stream by bones, [(bone, sample, leap in rad)]): NaN where a sensor only sent again what it had sent, and
    every sensor with one heading, though its filter began anew. exchanged: pairs of sensors that sit in each other's place.
    """
    data, anew = _by_bones(stream.read().astype(float), exchanged), []
    known = np.isfinite(data.sum(axis=2))
    for s, bone in enumerate(SUIT_BONES):
        at = np.flatnonzero(known[:, s])
        if len(at) < 2:
            continue
        mine = data[at, s]
        held = held_on(at / float(stream.rate), mine[:, :4], mine[:, 4:])
        data[at[held], s] = np.nan
        at = at[~held]
        rotation, leaps = as_one_heading(at / float(stream.rate), mine[~held, :4])
        if leaps:
            data[at, s, :4] = rotation
            anew += [(bone, int(at[k]), leap) for k, leap in leaps]
    return data, anew


def _by_bones(data, exchanged):
    """Samples (T, 17, ...) of sensors as of the bones that they sit on."""
    if not exchanged:
        return data
    out = data.copy()
    for bone, said in worn_as(exchanged).items():
        out[:, SUIT_BONES.index(bone)] = data[:, SUIT_BONES.index(said)]
    return out


def calibrate(stream, solved):
    """How each sensor sits on its bone, by the body as markers show it; whoever has changed places is put right."""
    (data, _), recording = _heard(stream), suit_recording_of(stream)
    _, world, held = _bones(solved)

    def lined_up(exchanged):
        """(the SuitRecording put right, rotations of its bones at its samples, figures of the clock)"""
        take_times, figures = _times(stream, _by_bones(data, exchanged), solved, world, held)
        shown = device_start_s(stream) + np.arange(len(data)) / float(stream.rate)
        right = put_right(recording, exchanged)
        own = np.interp(right.times_s, shown, take_times)
        bones = slerp(solved.times_s, world, own)
        nearest = np.clip(np.searchsorted(solved.times_s, own), 0, len(solved.times_s) - 1)
        bones[~held[nearest] | ((own < solved.times_s[0]) | (own > solved.times_s[-1]))[:, None]] = np.nan
        return right, bones[:, [SUIT_BONES.index(n) for n in right.names]], figures

    refused, both = None, [limbs_of(recording.names, legs) for legs in (False, True)]
    for exchanged in ([], both[0] + both[1], *both):  # where all arms or legs are, no clock makes the movement match
        try:
            right, bones, figures = lined_up(exchanged)
            break
        except InputError as error:
            refused = refused or error
    else:
        raise refused
    more = find_exchanged_beside_markers(right, bones)
    if more:
        exchanged = net_pairs([*exchanged, *more])
        right, bones, figures = lined_up(exchanged)
    found = calibrate_beside_markers(right, bones)
    # where one of those that have changed places told too little, nobody knows what the others read
    half_known = {n for r in rounds_of(exchanged) if not set(r) <= set(found.names) for n in r}
    exchanged = pairs_of({bone: said for bone, said in worn_as(exchanged).items() if bone not in half_known})
    rows = suit_to_document(replace(found, exchanged=tuple(exchanged)))
    rows = {bone: row for bone, row in rows.items() if bone not in half_known}
    if stream.details.get("clock") == OWN_CLOCK:
        for row in rows.values():
            row["clock_ppm"] = [figures["clock"][k] for k in ("drift_ppm", "drift_sd_ppm")]
    return rows


def exchanged_snags(document, duration_s):
    """The Snags of a warm-up that tell who has changed places; document: the suit's rows of a calibration."""
    return [
        Snag("exchanged", "suit", 0.0, duration_s, 3.0, f"{bones_in_a_row(r)} are worn in each other's place; read the other way round here and "
             "in all takes of this warm-up", "every sensor on its limb", r[0]) for r in rounds_of(exchanged_of(document))
    ]  # fmt: skip


def guides(stream, document, solved):
    """The Guides of a suit; headings, and what else is off, from the bones that markers show."""
    data, anew = _heard(stream, exchanged_of(document))
    joint, world, held = _bones(solved)
    own, figures = _times(stream, data, solved, world, held, clock_of(document))
    sensor = resample_sensor(own, data[..., :4], solved.times_s)
    skeleton = solved.performer.skeleton
    rest = rest_joints(skeleton)
    rest, seat = np.array([(rest[bone], usual_seat(skeleton, bone)) for bone in SUIT_BONES]).swapaxes(0, 1)
    rate_hz = float(solved.motion.rate)
    felt = felt_in_steps(own, data, solved.times_s, rate_hz, joint, rest, seat)
    found = stand_in(sensor, document, world, held, rate_hz, felt=felt)
    if found.skin:
        figures = figures | {"skin_missed": {limb: round(share, 2) for limb, share in found.skin.items()}}
    return Guides(
        found.world,
        figures,
        _felt_at_pelvis(data, own, document, found.world, solved, held[:, SUIT_BONES.index("hips")]),
        (
            *(fault_snag(f, solved.times_s, "markers") for f in found.faults),
            *(_anew_snag(bone, float(own[sample]), leap) for bone, sample, leap in anew),
            *(_unlike_snag(bone, stray_rad, solved.times_s) for bone, stray_rad in found.unlike_rad.items()),
        ),
        found.stray_rad,
    )


def _anew_snag(bone, at_s, leap_rad):
    """The Snag of a filter that began anew at a moment of the take."""
    where, by = in_words(bone), abs(np.degrees(leap_rad))
    text = f"{where}: the sensor's filter began anew, its heading off by {by:.0f}°; put back as it was"
    return Snag("filter anew", "suit", at_s, at_s, by / MAGNET_LIMIT_DEG, text, f"{MAGNET_LIMIT_DEG:.0f}°", where)


def _unlike_snag(bone, stray_rad, times_s):
    """The Snag of a sensor that does not turn as the bone it should be on."""
    where, limit = in_words(bone), np.degrees(UNLIKE_RAD)
    text = f"{where}: the sensor strays by {np.degrees(stray_rad):.0f}° from what markers show of the limb and is left out; is it on another limb?"
    return Snag(
        "sensor unsure", "suit", float(times_s[0]), float(times_s[-1]), float(stray_rad / UNLIKE_RAD), text, f"{limit:.0f}°", where
    )  # fmt: skip


def fault_snag(fault, times_s, helpers):
    """The Snag that tells a person of a SensorFault: when by times_s (T,) of its frames, and who puts it right."""
    start, end = (float(times_s[min(t, len(times_s) - 1)]) for t in (fault.start, fault.end))
    where = in_words(fault.sensor)
    if fault.kind == "magnet":
        text = f"{where}: a magnet turns the sensor by {fault.degrees:.0f}° for {end - start:.1f} s; {helpers} put it right"
        return Snag(
            "magnet", "suit", start, end, fault.degrees / MAGNET_LIMIT_DEG, text, f"{MAGNET_LIMIT_DEG:.0f}°", where
        )
    text = f"{where}: the sensor has slipped by {fault.degrees:.0f}°; aligned anew from here by {helpers}"
    if fault.start == 0:
        text = f"{where}: the sensor has slipped by {fault.degrees:.0f}° since the warm-up; aligned anew by the take's T-pose"
    return Snag("slipped", "suit", start, end, fault.degrees / SLIP_LIMIT_DEG, text, f"{SLIP_LIMIT_DEG:.0f}°", where)


def _felt_at_pelvis(data, own, document, turned, solved, held):
    """The FeltAt of the pelvis' sensor, or None where there is none; held (T,): where markers show the pelvis."""
    if "hips" not in turned:
        return None
    force = data[:, SUIT_BONES.index("hips"), 4:]
    known = np.isfinite(force[:, 0])
    if known.sum() < 2:
        return None
    row, skeleton = document["hips"], solved.performer.skeleton
    mount = np.array(row["rotation_xyzw"])
    at = solved.times_s
    force = np.stack([np.interp(at, own[known], force[known, k], np.nan, np.nan) for k in range(3)], axis=1)
    gravity = np.array([0.0, GRAVITY_MS2, 0.0])
    felt = quaternion_rotate(turned["hips"], quaternion_rotate(mount, force)) - gravity
    there = np.isfinite(felt[:, 0])
    for start, end in find_runs(~there):  # packets get lost; a body does not start or stop in between
        if start > 0 and end < len(felt) and at[end] - at[start - 1] < BRIDGED_S:
            for k in range(3):
                felt[start:end, k] = np.interp(at[start:end], at[[start - 1, end]], felt[[start - 1, end], k])
    lever = np.array(SEATS["hips"])
    if "spine" in row.get("joints_m", {}):
        joint = quaternion_rotate(mount, np.array(row["joints_m"]["spine"]))
        lever = skeleton.rest_offset_m[skeleton.index("spine")] - joint
    return with_fitted_lever(FeltAt("hips", lever, felt), solved.motion, held)


def says(document):
    residual = np.sqrt(np.mean(np.square([s["residual_deg"] for s in document.values()])))
    worst = max(document, key=lambda bone: document[bone]["residual_deg"])
    return (
        f"{len(document)} sensors, {residual:.1f}°",
        f"worst {in_words(worst)}, {document[worst]['residual_deg']:.1f}°",
    )


DEVICE = Device(
    id="suit",
    words="Suit",
    kind="orientations",
    rate=Fraction(100),
    shape=(len(SUIT_BONES), 7),
    per_packet=5,
    lane=Lane("sensors · received", 30, "share", parts=len(SUIT_BONES)),
    channels=tuple(f"{bone} {what}" for bone in SUIT_BONES for what in ("qx", "qy", "qz", "qw", "ax", "ay", "az")),
    clap=lambda data, times_s: clap_in_accelerations(data[:, HANDS, 4:7], times_s),
    calibrate=calibrate,
    says=says,
    guides=guides,
    doubts=exchanged_snags,
)
