"""The warm-up of a suit, and walking, as key poses: poses held still, every joint through its range, steps to and fro."""

import numpy as np


def suit_warm_up(k, rng):
    """Arms down, T-pose, every joint through its range, steps to and fro, arms down."""
    down = k.both(UpperArm=(0, -5, -80), LowerArm=(0, -10, 0))
    k.at(0.0, **down)
    k.at(3.0, **down)
    k.at(4.2)
    k.at(7.0)
    t = 7.0
    closed = fists(k)

    def through(hold, *poses):
        nonlocal t
        for pose in poses:
            t += hold
            k.at(t, **pose)

    through(0.6, {"head": (25, 0, 0), "neck": (20, 0, 0)}, {"head": (-20, 0, 0), "neck": (-20, 0, 0)}, {},
            {"head": (0, 35, 0), "neck": (0, 30, 0)}, {"head": (0, -35, 0), "neck": (0, -30, 0)}, {})  # fmt: skip
    through(0.55, k.both(UpperArm=(0, -85, 0)), k.both(UpperArm=(0, 0, 60), Shoulder=(0, 0, 15)), {},
            k.both(UpperArm=(60, 0, 0)), k.both(UpperArm=(-50, 0, 0)), {})  # fmt: skip
    for _ in range(3):
        through(0.45, k.both(LowerArm=(0, -120, 0)), k.both(LowerArm=(0, -10, 0)))
    through(0.45, k.both(LowerArm=(60, -80, 0)), k.both(LowerArm=(-60, -80, 0)), {},
            k.both(Hand=(0, 0, -50)), k.both(Hand=(0, 0, 45)), {}, closed, {}, closed, {})  # fmt: skip
    through(0.6, {"spine": (28, 0, 0), "chest": (22, 0, 0), "upperChest": (10, 0, 0)}, {},
            {"spine": (0, 18, 0), "chest": (0, 18, 0)}, {"spine": (0, -18, 0), "chest": (0, -18, 0)}, {},
            {"spine": (0, 0, 14), "chest": (0, 0, 14)}, {"spine": (0, 0, -14), "chest": (0, 0, -14)}, {})  # fmt: skip
    k.at(t + 0.9, **down)
    t += 0.9
    for _ in range(2):
        k.pelvis += [(t, (0, 0, 0)), (t + 0.8, (0, -0.34, -0.12)), (t + 1.6, (0, 0, 0))]
        k.at(t + 0.8, hips=(30, 0, 0), spine=(15, 0, 0), **k.both(UpperArm=(0, -60, 0)))
        t += 1.6
        k.at(t, **down)
    for side, sign in (("left", 1.0), ("right", -1.0)) * 2:
        k.steps.append((t, t + 1.0, side, (sign * 0.02, 0.10), 0.40, True))
        k.pelvis += [(t, (0, 0, 0)), (t + 0.25, (-sign * 0.06, 0, 0)), (t + 0.75, (-sign * 0.06, 0, 0))]
        t += 1.0
        k.pelvis.append((t, (0, 0, 0)))
    t = walk_to(k, t, [0.45, 0.9, 1.35, 1.8, 1.8], down)
    t = walk_to(k, t + 0.3, [1.4, 1.0, 0.6, 0.2, 0.0, 0.0], down)
    k.at(t + 0.4, **down)
    k.at(t + 3.2, **down)
    return t + 3.2


def fists(k):
    """Both hands closed."""
    curl = {
        f"{f}{p}": (0, 0, -72)
        for f in ("Index", "Middle", "Ring", "Little")
        for p in ("Proximal", "Intermediate", "Distal")
    }
    return k.both(**curl, ThumbProximal=(0, -35, -15), ThumbDistal=(0, -40, -15))


def walk_to(k, t, places, down, step_s=0.6):
    """Steps to places ahead (m), left and right in turn, arms swinging."""
    now = k.pelvis[-1][1][2]
    for i, z in enumerate(places):
        side, sign = (("left", 1.0), ("right", -1.0))[i % 2]
        k.steps.append((t, t + step_s, side, (0.0, z), 0.07, False))
        behind = places[i - 1] if i else now
        now = (z + behind) / 2  # between the feet
        k.pelvis.append((t + 0.8 * step_s, (-sign * 0.02, -0.02, now)))
        swing = {n: tuple(np.add(v, (0, 22 if n.startswith("left") == (sign < 0) else -22, 0)) if "UpperArm" in n else v)
                 for n, v in down.items()}  # fmt: skip
        k.at(t + 0.8 * step_s, spine=(0, -sign * 5, 0), hips=(2, sign * 6, 0), **swing)
        t += step_s
    k.at(t + 0.2, **down)
    return t
