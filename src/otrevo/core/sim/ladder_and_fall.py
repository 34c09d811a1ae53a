"""Key poses away from two feet on the floor: up a quay ladder and down again, and a fall backwards with getting up."""

from otrevo.core.sim.suit_warm_up import fists

RUNG_M = 0.28  # between rungs
AHEAD_M, GRIP_M = 0.26, 0.20  # the ankles are in front of where the climber began, the hands in front of the ankles
HANDS = 5  # rungs between a foot and the hand that goes with it
PULL_M = (0.0, 0.03, -0.07)  # a hand on its way to the next rung


def climb_ladder(k, t, rng):
    """Takes hold, four rungs up, a look over the shoulder with one hand off, and down again."""
    down = k.both(UpperArm=(0, -5, -76), LowerArm=(0, -14, 0))
    grip = fists(k)
    k.at(t + 0.8, **down)
    t += 1.0
    for side, sign in (("left", 1.0), ("right", -1.0)):
        k.reaches.append((t, t + 0.7, side, _rung(sign, HANDS), PULL_M))
        t += 0.3
    k.at(t + 0.4, **(down | grip))
    t = _rungs(k, t + 0.5, [1, 2, 3, 4, 4], down | grip, rng)
    k.reaches.append((t, t + 0.6, "right", None, PULL_M))
    k.at(t + 0.7, **(down | grip | {"spine": (0, -14, 0), "chest": (0, -12, 0), "head": (4, -30, 0)}))
    k.at(t + 1.5, **(down | grip | {"spine": (0, -16, 0), "chest": (0, -10, 0), "head": (0, -38, 0)}))
    k.reaches.append((t + 1.6, t + 2.2, "right", _rung(-1.0, 4 + HANDS), PULL_M))
    k.at(t + 2.3, **(down | grip))
    t = _rungs(k, t + 2.4, [3, 2, 1, 0, 0], down | grip, rng)
    for side in ("left", "right"):
        k.reaches.append((t, t + 0.6, side, None, PULL_M))
        t += 0.2
    k.at(t + 0.5, **down)
    for side in ("left", "right"):
        k.steps.append((t, t + 0.5, side, (0.0, 0.0), 0.05, False))
        t += 0.5
    k.pelvis += [(t - 0.9, (0.0, -0.01, 0.08)), (t, (0.0, 0.0, 0.0))]
    return t + 0.4


def _rung(sign, number):
    return 0.17 * sign, number * RUNG_M, AHEAD_M + GRIP_M


def _over(k, number):
    """How much higher the pelvis is over a rung than over the floor, as keys say it."""
    return number * RUNG_M / k.scale


def _rungs(k, t, numbers, pose, rng):
    """Feet in turn onto rungs of these numbers, each with the other side's hand; the pelvis follows the lower foot."""
    before, at = k.climbed, {"left": k.climbed, "right": k.climbed}
    first = 0 if numbers[0] > before else 1
    for i, number in enumerate(numbers):
        lasts = rng.uniform(0.9, 1.1)
        side, other, sign = (("left", "right", 1.0), ("right", "left", -1.0))[(i + first) % 2]
        k.steps.append((t, t + 0.6 * lasts, side, (0.0, AHEAD_M, number * RUNG_M), 0.05, False))
        k.reaches.append((t + 0.35 * lasts, t + 0.85 * lasts, other, _rung(-sign, number + HANDS), PULL_M))
        k.pelvis.append((t + 0.3 * lasts, (-sign * 0.05, _over(k, min(at.values())) - 0.01, 0.08)))
        at[side] = number
        k.pelvis.append((t + lasts, (sign * 0.03, _over(k, min(at.values())) + 0.02, 0.08)))
        k.at(t + 0.6 * lasts, hips=(6, sign * 5, 0), spine=(4, -sign * 5, 0), head=(-12, 0, 0), **pose)
        t += lasts
    k.climbed = numbers[-1]
    k.pelvis.append((t + 0.3, (0.0, _over(k, numbers[-1]) - 0.01, 0.08)))
    return t + 0.4


def fall(k, t, rng):
    """A foot slips away forwards, the body falls onto its seat and hands, lies down on its back, sits up and stands up by way of a squat."""
    down = k.both(UpperArm=(0, -5, -76), LowerArm=(0, -14, 0))
    k.at(t + 0.8, **down)
    k.at(t + 1.2, **down)
    t += 1.3
    k.pelvis += [(t - 0.1, (0, 0, 0))]
    k.steps += [
        (t, t + 0.5, "right", (-0.04, 0.34), 0.04, False),
        (t + 0.1, t + 0.6, "left", (0.04, 0.30), 0.04, False),
    ]
    for share in (0.25, 0.5, 0.7, 0.85):  # faster and faster, and stopped within a fifth of a second
        k.pelvis.append((t + 0.55 * share, (0.0, -k.seat_m * share**2, -0.16 * share)))
    k.pelvis += [
        (t + 0.57, (0.0, -0.95 * k.seat_m, -0.16)),
        (t + 0.68, (0.0, -k.seat_m, -0.16)),
        (t + 1.0, (0.0, -k.seat_m, -0.16)),
    ]
    thrown = k.both(UpperArm=(0, 20, -20), LowerArm=(0, -25, 0))
    k.at(t + 0.2, hips=(-14, 0, 0), spine=(10, 0, 0), head=(15, 0, 0), **thrown)
    propped = k.both(Hand=(0, 0, 60))
    seated = propped | {"hips": (-22, 0, 0), "spine": (10, 0, 0), "head": (10, 0, 0)}
    k.at(t + 0.6, **(thrown | seated))
    t += 0.6
    for side, sign in (("left", 1.0), ("right", -1.0)):
        k.reaches.append((t - 0.35, t + 0.05, side, (0.36 * sign, 0.07, -0.45), PULL_M))
    k.at(t + 0.8, **(thrown | seated))
    # lies down, looks about, legs let go a little
    for side in ("left", "right"):
        k.reaches.append((t + 0.8, t + 1.3, side, None, PULL_M))
    lies = {"hips": (-84, 0, 0), "head": (8, 0, 0)} | k.both(UpperArm=(0, -6, -40), LowerArm=(0, -30, 0))
    k.pelvis += [(t + 0.9, (0.0, -k.seat_m, -0.16)), (t + 1.9, (0.0, -k.seat_m, -0.20))]
    k.at(t + 1.9, **lies)
    t += 2.0
    for _ in range(3):
        lasts = rng.uniform(0.7, 1.0)
        k.at(
            t + lasts, **(lies | {"head": (6, rng.uniform(-25, 25), 0), "leftLowerArm": (0, rng.uniform(-60, -20), 0)})
        )
        t += lasts
    for side, late in (("left", 0.0), ("right", 0.15)):  # both feet off the ground: only the back carries
        k.steps.append((t + late, t + 1.4, side, (0.0, -0.12), 0.30, True))
    t += 1.6
    k.steps += [
        (t, t + 0.5, "left", (0.04, 0.22), 0.06, False),
        (t + 0.4, t + 0.9, "right", (-0.04, 0.22), 0.06, False),
    ]
    t += 1.0
    k.pelvis.append((t, (0.0, -k.seat_m, -0.20)))
    k.at(t, **lies)
    # sits up over the hands, feet close, squats and stands
    k.at(t + 0.9, **(thrown | propped | {"hips": (-20, 0, 0), "spine": (16, 0, 0), "chest": (10, 0, 0)}))
    for side, sign in (("left", 1.0), ("right", -1.0)):
        k.reaches.append((t + 0.5, t + 0.95, side, (0.34 * sign, 0.07, -0.42), PULL_M))
    t += 1.0
    k.steps += [
        (t, t + 0.4, "left", (0.05, 0.06), 0.05, False),
        (t + 0.35, t + 0.75, "right", (-0.05, 0.06), 0.05, False),
    ]
    k.pelvis += [(t + 0.75, (0.0, -k.seat_m + 0.01, -0.20))]
    k.at(t + 0.75, **(thrown | propped | {"hips": (-8, 0, 0), "spine": (20, 0, 0), "chest": (12, 0, 0)}))
    t += 0.85
    for side in ("left", "right"):
        k.reaches.append((t + 0.45, t + 0.9, side, None, PULL_M))
    k.pelvis += [(t + 0.7, (0.0, -0.58, -0.06)), (t + 1.2, (0.0, -0.42, 0.0)), (t + 2.1, (0.0, 0.0, 0.0))]
    k.at(
        t + 0.7,
        hips=(30, 0, 0),
        spine=(22, 0, 0),
        chest=(10, 0, 0),
        **k.both(UpperArm=(0, -60, -30), LowerArm=(0, -30, 0)),
    )
    k.at(t + 1.3, hips=(32, 0, 0), spine=(18, 0, 0), **k.both(UpperArm=(0, -60, -30), LowerArm=(0, -30, 0)))
    k.at(t + 2.2, **down)
    k.steps += [(t + 2.3, t + 2.7, "left", (0, 0), 0.05, False), (t + 2.7, t + 3.1, "right", (0, 0), 0.05, False)]
    return t + 3.3
