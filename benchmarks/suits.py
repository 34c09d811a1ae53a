"""A body from a suit alone, on made-up people and suits: degrees, millimetres, times real time."""

import time
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.inertial.calibrate import calibrate_wearer
from otrevo.core.inertial.documents import suit_to_document
from otrevo.core.inertial.solve import solve_suit
from otrevo.core.inertial.turned_sensors import find_turned_sensors
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.retarget.plants import find_plants
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit

SLOPPY_DEG = 2.5  # how far each joint is about each axis, in any pose, from where it should be
WELL_HELD_DEG = 1.45  # 2.5 degrees about all three axes together
AGE_S, OLD_S = 120.0, 2 * 3600.0  # of the warm-up
TAKES, OFF_THE_FLOOR = ("quay walk", "rope haul", "semaphore"), ("night climb", "ladder", "fall")
FAULTY_TAKES = ("warm-up", "suit warm-up", "quay walk", "rope haul", "semaphore", "night climb", "ladder", "fall")


def turned(seeds):
    """Magnets of 12 to 22 degrees for 2 to 6 s and slips of 15 to 30 degrees, one a take: the share that is found, and how many are invented."""
    hit, invented, clean, recorded_s, spent_s = {"magnet": [], "slipped": []}, 0, 0, 0.0, 0.0
    for seed in seeds:
        rng = np.random.default_rng([seed, 5])
        person = make_performer(seed, shipped_chart(), sloppiness_deg=SLOPPY_DEG)
        warm_up = perform("suit warm-up", person, seed, Fraction(120)).motion
        suit = make_suit(warm_up.skeleton, seed)
        calibration = calibrate_wearer(record_suit(warm_up, suit), {"height_m": person.height_m})[1]
        for name in FAULTY_TAKES:
            take = perform(name, person, seed, Fraction(120)).motion
            length_s = len(take) / 120
            for kind in ("none", *hit):
                sensor, begin = str(rng.choice(suit.names)), rng.uniform(0.3, 0.6) * length_s
                end = begin + min(rng.uniform(2, 6), 0.35 * length_s)
                turn = rng.normal(size=3)
                turn *= np.radians(rng.uniform(15, 30)) / np.linalg.norm(turn)
                degrees = float(rng.choice([-1, 1]) * rng.uniform(12, 22))
                faults = {
                    "none": {},
                    "magnet": {"magnets": ((sensor, AGE_S + begin, AGE_S + end, degrees),)},
                    "slipped": {"slips": ((sensor, AGE_S + begin, turn),)},
                }[kind]
                recording = record_suit(take, replace(suit, **faults), AGE_S).only(calibration.names)
                began = time.process_time()
                found, *_ = find_turned_sensors(recording, calibration)
                spent_s, recorded_s = spent_s + time.process_time() - began, recorded_s + length_s
                true = [f for f in found if kind != "none" and f.sensor == sensor and f.end / 100 > begin]
                for fault in (f for f in found if f not in true):
                    invented += 1
                    print(f"{seed} {name} with {kind} {sensor}: {fault} is invented")
                clean += kind == "none"
                if kind != "none":
                    hit[kind].append(bool(true))
                    if not true:
                        print(f"{seed} {name}: {kind} {sensor} at {begin:.1f} s is missed")
    return {
        "magnets_found": float(np.mean(hit["magnet"])), "slips_found": float(np.mean(hit["slipped"])), "of_each": len(hit["magnet"]),
        "invented": invented, "takes_without": clean, "times_real": recorded_s / spent_s,
    }  # fmt: skip


def _calibrated(seed, sloppy_deg):
    """(SimulatedPerformer who holds poses within sloppy_deg, suit, PerformerCalibration, processor seconds that it took)."""
    person = make_performer(seed, shipped_chart(), sloppiness_deg=sloppy_deg)
    warm_up = perform("suit warm-up", person, seed, Fraction(120)).motion
    suit = make_suit(warm_up.skeleton, seed)
    began = time.process_time()
    skeleton, found, _ = calibrate_wearer(record_suit(warm_up, suit), {"height_m": person.height_m})
    spent_s = time.process_time() - began
    document = {"suit": suit_to_document(found)}
    return (
        person,
        suit,
        PerformerCalibration(person.height_m, skeleton, "", (), (), np.zeros((0, 3)), devices=document),
        spent_s,
    )


def suits(seeds):
    """Warm-ups and takes of the simulator's: joint angles, places of joints from the hips, ways, sliding of feet that stand, speed.

    Takes on steps, on a ladder and on the ground are measured apart: places, how far the hips' height is off at most, sliding.
    """
    angles, worst, old, places, ways, slides, speeds, calibrating = [], [], [], [], [], [], [], []
    places_off, heights_off, slides_off, well_held = [], [], [], []
    for seed in seeds:
        person, suit, performer, _ = _calibrated(seed, WELL_HELD_DEG)
        for name in TAKES:
            take = perform(name, person, seed, Fraction(120)).motion
            body = solve_suit(record_suit(take, suit, AGE_S), performer).motion
            well_held.append(_compared(body, take)[0])
            print(f"{seed} {name:10s} {well_held[-1].mean():.2f} / {well_held[-1].max():.1f} degrees, poses well held")
        person, suit, performer, spent_s = _calibrated(seed, SLOPPY_DEG)
        calibrating.append(spent_s)
        for name in TAKES:
            take = perform(name, person, seed, Fraction(120)).motion
            recording = record_suit(take, suit, AGE_S)
            began = time.process_time()
            body = solve_suit(recording, performer).motion
            speeds.append(len(body) / float(body.rate) / (time.process_time() - began))
            angle, place, way, slide, _ = _compared(body, take)
            angles.append(angle.mean())
            worst.append(angle.max())
            places.append(place)
            if name == "quay walk":
                ways.append(way)
            old.append(_compared(solve_suit(record_suit(take, suit, OLD_S), performer).motion, take)[0].mean())
            slides += slide
            print(
                f"{seed} {name:10s} {angle.mean():.2f} / {angle.max():.1f} degrees, places {place:.0f} mm, {speeds[-1]:.0f}x"
            )
        for name in OFF_THE_FLOOR:
            take = perform(name, person, seed, Fraction(120)).motion
            body = solve_suit(record_suit(take, suit, AGE_S), performer).motion
            angle, place, _, slide, height = _compared(body, take)
            places_off.append(place)
            heights_off.append(height)
            slides_off += slide
            print(f"{seed} {name:11s} {angle.mean():.2f} degrees, places {place:.0f} mm, height {height:.0f} mm")
    return {
        "well_held_joint_angle_deg": float(np.mean(well_held)), "well_held_worst_joint_deg": float(np.mean([a.max() for a in well_held])),
        "joint_angle_deg": float(np.mean(angles)), "worst_joint_deg": float(np.mean(worst)),
        "hours_later_joint_angle_deg": float(np.mean(old)), "places_mm": float(np.mean(places)),
        "way_off_share": float(np.mean(ways)), "slide_median_mm": float(np.median(slides)),
        "slide_95_mm": float(np.percentile(slides, 95)), "solve_times_real": float(np.min(speeds)),
        "calibrate_s": float(np.mean(calibrating)), "off_the_floor_places_mm": float(np.mean(places_off)),
        "off_the_floor_height_mm": float(np.mean(heights_off)), "off_the_floor_slide_95_mm": float(np.percentile(slides_off, 95)),
    }  # fmt: skip


def _compared(body, take):
    """(degrees (B,) by joint, child in parent; mm of joints from the hips; share by which the way is off; mm each standing foot slides;
    mm the hips' height is off at most, from where it began)."""
    times, source = np.arange(len(body)) / float(body.rate), np.arange(len(take)) / float(take.rate)
    root = np.stack([np.interp(times, source, take.root_position_m[:, k]) for k in range(3)], axis=1)
    true = Motion(take.skeleton, body.rate, root, slerp(source, make_continuous(take.rotation_local), times))
    bones = [b for b in BODY_BONES[1:] if not b.endswith("Toes")]
    ours, theirs = ([m.skeleton.index(b) for b in bones] for m in (body, true))
    turn = quaternion_multiply(quaternion_conjugate(true.rotation_local[:, theirs]), body.rotation_local[:, ours])
    angle = np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=-1)).mean(axis=0)
    (joint, _), (joint_true, rotation_true) = motion_joints(body), motion_joints(true)
    away = (joint[:, ours] - joint[:, :1]) - (joint_true[:, theirs] - joint_true[:, :1])
    way, way_true = (np.linalg.norm(np.diff(j[::10, 0][:, [0, 2]], axis=0), axis=1).sum() for j in (joint, joint_true))
    height = body.root_position_m[:, 1] - root[:, 1]
    height -= height[:50].mean()
    slides = []
    for plant in find_plants(true, joint_true, rotation_true):
        a, b = (int(s * float(body.rate)) for s in (plant.start_s + 0.03, plant.end_s - 0.03))
        if b - a > 10:
            at = joint[a:b, body.skeleton.index(plant.bone)]
            slides.append(1000 * np.linalg.norm(at - at.mean(axis=0), axis=1).max())
    return (
        angle,
        1000 * np.linalg.norm(away, axis=2).mean(),
        abs(way / way_true - 1),
        slides,
        1000 * np.abs(height).max(),
    )
