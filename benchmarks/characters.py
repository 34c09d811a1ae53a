"""Maps of made-up skeletons in every habit, and a performance on the shipped characters: shares, millimetres, times real time."""

import time
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.characters.character import read_character
from otrevo.core.characters.mapping import propose
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.conventions import quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.retarget.feet import foot_points
from otrevo.core.retarget.plan import make_plan
from otrevo.core.retarget.settings import RetargetSettings
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.build import as_file, built, random_build, score
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.characters.habits import HABITS, named
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer

BUILDS_A_SEED = 8


def maps(seeds):
    """Precision, recall and exchanged sides of proposed maps, by naming habit."""
    out = {}
    for habit in HABITS:
        counts, refused = np.zeros(4), 0
        for seed in (BUILDS_A_SEED * s + k for s in seeds for k in range(BUILDS_A_SEED)):
            rng = np.random.default_rng(seed)
            body = built(random_build(rng))
            try:
                counts += score(body, propose(as_file(body, named(body.names, habit, seed), rng, bool(seed % 3))))
            except InputError:
                refused += 1
        right, wrong, missed, exchanged = counts
        out[habit] = {
            "precision": right / (right + wrong),
            "recall": right / (right + missed),
            "exchanged": int(exchanged),
            "refused": refused,
        }
        print(
            f"{habit:16s} {out[habit]['precision']:.4f} {out[habit]['recall']:.4f} exchanged {int(exchanged)} refused {refused}"
        )
    return out


def retargeting(seeds):
    """Speed and slides of performances at 120 Hz on the shipped characters, in times real time and mm over the size of the character."""
    fast, reaching, slides = [], [], []
    reach = RetargetSettings(reach={limb: [(0.0, 1.0)] for limb in ("leftHand", "rightHand", "leftFoot", "rightFoot")})
    for seed in seeds:
        plain = perform("rope haul", make_performer(seed, shipped_chart(), 1.72), seed, 120.0).motion
        motion = Motion(plain.skeleton, Fraction(120), plain.root_position_m, plain.rotation_local)
        for name in ("keeper", "wick", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            retarget(motion.window(0, 20), character, sheet, reach)  # loads the compiled loops
            for settings, times in ((None, fast), (reach, reaching)):
                began = time.process_time()
                result = retarget(motion, character, sheet, settings)
                times.append(len(motion) / 120 / (time.process_time() - began))
                if settings is None:
                    slides += _slides(result, character, sheet, motion)
    found = {
        "angles_and_plants_x": float(np.median(fast)),
        "with_reach_x": float(np.median(reaching)),
        "slide_mm_p95": float(np.percentile(slides, 95)),
    }
    print(
        f"{found['angles_and_plants_x']:.0f}x real time, {found['with_reach_x']:.0f}x with reach, slides {found['slide_mm_p95']:.2f} mm (95 %)"
    )
    return found


def _slides(result, character, sheet, motion):
    plan, rate = make_plan(character, sheet, motion.skeleton), float(motion.rate)
    out = []
    for plant in result.plants:
        side = "left" if plant.bone.startswith("left") else "right"
        foot, local = plan.joints[f"{side}Foot"], foot_points(plan, side)[plant.bone.removeprefix(side)]
        point = result.positions[:, foot] + quaternion_rotate(result.rotations[:, foot], local)
        inside = point[round(plant.start_s * rate) : round(plant.end_s * rate) + 1]
        out.append(1000 * float(np.linalg.norm(np.ptp(inside, axis=0))) / plan.legs_ratio)
    return out
