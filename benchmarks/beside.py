"""Bodies from markers with a suit beside them, and from rigid bodies, on made-up people: millimetres, degrees, times real time."""

import time
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, rotvec_from_quaternion
from otrevo.core.devices.suit import OWN_CLOCK
from otrevo.core.formats.rigid_bodies_csv import bodies_recording
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.passes import solve, warm_up
from otrevo.core.passes.contract import SampleClock, TakeMaterial, TakeStream
from otrevo.core.rigid.solve import solve_bodies
from otrevo.core.sim.motions import perform
from otrevo.core.sim.optical import see, worn
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.rigid import ALL, SIX, TEN, strap_on
from otrevo.core.sim.suit import make_suit, read_suit

RATE, SLOPPY_DEG, AGE_S = Fraction(120), 2.5, 120.0
TAKES = "quay walk", "rope haul", "semaphore"
LIMBS = (
    ("UpperArm", "LowerArm", "Hand"),
    ("LowerArm", "Hand"),
    ("UpperLeg", "LowerLeg", "Foot", "Toes"),
    ("LowerLeg", "Foot", "Toes"),
)
JOINTS = [b for b in BODY_BONES if not b.endswith("Toes")]


def markers_and_suit(seeds):
    """Limbs hidden for 1 to 10 s: joints that are hidden, seams, joints that are not; how often the truth lies inside two sigma; speed."""
    chart = shipped_chart()
    hidden, angles, seams, visible, inside, speeds = [], [], [], [], [], []
    for seed in seeds:
        rng = np.random.default_rng(seed)
        person = make_performer(seed, chart, sloppiness_deg=SLOPPY_DEG)
        performance = perform("warm-up", person, seed, RATE)
        suit = make_suit(performance.motion.skeleton, seed)
        seen = see(performance, person, chart, seed)
        performer = performer_from_document(warm_up.PASS.run(
            TakeMaterial(len(seen.points_m) / 120, height_m=person.height_m, streams=(
                _stream("optical", "points", RATE, seen.points_m), _suit(performance.motion, suit, 5.0))), {}, _quiet).performer)  # fmt: skip
        for name in TAKES:
            true = perform(name, person, seed, RATE)
            points, bare = worn(true, person, chart, rng, hidden=0.02, limb_losses=0)
            points[~bare] = np.nan
            gaps = _hide(points, chart, rng)
            labelled = _stream("labelled", "markers", RATE, points, {"names": performer.marker_names})
            material = TakeMaterial(
                len(points) / 120,
                performer=performer,
                made={"label": (labelled,)},
                streams=(_suit(true.motion, suit, AGE_S),),
            )
            began = time.process_time()
            outcome = solve.PASS.run(material, solve.PASS.checked({}), _quiet)
            speeds.append(len(points) / 120 / (time.process_time() - began))
            tracks = {t.name: t for t in outcome.tracks}
            body = Motion(performer.skeleton, RATE, tracks["body root"].data, tracks["body rotation"].data)
            off, angle, step = _errors(body, true.motion)
            mask = np.zeros(off.shape, dtype=bool)
            for start, end, bones in gaps:
                columns = [JOINTS.index(b) for b in bones]
                mask[start:end, columns] = True
                seams += [step[t - 1, columns].max() for t in (start, end)]
            hidden.append(off[mask].mean())
            angles.append(angle[mask].mean())
            visible.append(off[~mask].mean())
            sure = tracks["joint uncertainty"]
            every = round(120 / float(sure.rate))
            columns = [list(sure.details["bones"]).index(b) for b in JOINTS]
            inside.append((off[::every][: len(sure.data)] < 2000 * sure.data[:, columns]).mean())
    return {
        "hidden_joints_mm": float(np.mean(hidden)), "hidden_joints_deg": float(np.mean(angles)), "seams_mm": float(np.mean(seams)),
        "seams_mm_95": float(np.percentile(seams, 95)), "visible_joints_mm": float(np.mean(visible)),
        "inside_two_sigma": float(np.mean(inside)), "times_real": float(np.median(speeds)),
    }  # fmt: skip


def rigid_bodies(seeds):
    """Bodies on all limbs, on ten, on six: places of joints from the hips, angles, seconds for a warm-up of 46 s."""
    out = {}
    for what, bones in (("all", ALL), ("ten", TEN), ("six", SIX)):
        places, angles, seconds = [], [], []
        for seed in seeds:
            person = make_performer(seed, shipped_chart(), sloppiness_deg=SLOPPY_DEG)
            true = perform("warm-up", person, seed, RATE).motion
            position, rotation = strap_on(true, seed, bones)
            count = len(bones)
            recording = bodies_recording(np.repeat(np.arange(len(true)) / 120, count), np.tile(np.arange(count), len(true)), bones,
                                         position.reshape(-1, 3), rotation.reshape(-1, 4))  # fmt: skip
            began = time.process_time()
            body = solve_bodies(recording, person.height_m).motion
            seconds.append(time.process_time() - began)
            shift = body.root_position_m - true.root_position_m[: len(body)]
            off, angle, _ = _errors(
                Motion(body.skeleton, RATE, body.root_position_m - shift, body.rotation_local), true
            )
            places.append(off.mean())
            angles.append(angle[:, 1:].mean())
        out |= {
            f"{what}_mm": float(np.mean(places)),
            f"{what}_deg": float(np.mean(angles)),
            f"{what}_s": float(np.mean(seconds)),
        }
    return out


def _quiet(share):
    pass


def _stream(name, kind, rate, data, details=None):
    return TakeStream(name, kind, rate, lambda: data, SampleClock(0.0, float(rate)), details=details or {})


def _suit(motion, suit, age_s):
    _, rotation, force = read_suit(motion, suit, age_s)
    return _stream(
        "suit", "orientations", Fraction(100), np.concatenate([rotation, force], axis=2)[130:], {"clock": OWN_CLOCK}
    )


def _hide(points, chart, rng):
    """Hide limbs one after the other in points (T, M, 3); [(first frame, end, bones with joints)]."""
    gaps, at = [], 180
    while True:
        count = min(int(120 * np.exp(rng.uniform(0.0, np.log(10.0)))), len(points) // 2)
        if at + count + 60 > len(points):
            return gaps
        side, bones = ("left", "right")[rng.integers(2)], LIMBS[rng.integers(len(LIMBS))]
        points[at : at + count, [m for m, b in enumerate(chart.bones) if b in [side + n for n in bones]]] = np.nan
        gaps.append((at, at + count, [side + n for n in bones if n != "Toes"]))
        at += count + int(120 * rng.uniform(0.5, 2.0))


def _errors(body, true):
    """(mm (T, B) of JOINTS in the world, degrees (T, B) child in parent, mm (T - 1, B) by which they leap from frame to frame)."""
    ours, theirs = ([m.skeleton.index(n) for n in JOINTS] for m in (body, true))
    count = min(len(body), len(true))
    joint, other = motion_joints(body)[0][:count, ours], motion_joints(true)[0][:count, theirs]
    turn = quaternion_multiply(
        quaternion_conjugate(true.rotation_local[:count, theirs]), body.rotation_local[:count, ours]
    )
    apart = joint - other
    return (
        1000 * np.linalg.norm(apart, axis=2),
        np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=-1)),
        1000 * np.linalg.norm(np.diff(apart, axis=0), axis=2),
    )
