"""The night's slates as key poses: up the quay steps and down again, and a radio watch with the hands under the desk."""

RISE_M, TREAD_M = 0.17, 0.29
DESK_HANDS = ("LowerArm", "Hand")


def climb(k, t, rng):
    """Five quay steps up, a look over the edge with the arm out, and backwards down to where it began."""
    down = k.both(UpperArm=(0, -5, -78), LowerArm=(0, -14, 0))
    k.at(t + 0.8, **down)
    t = _steps(k, t + 1.0, [1, 2, 3, 4, 5, 5], down, rng)
    k.at(
        t + 0.9,
        **(down | {"rightUpperArm": (0, 80, 15), "rightLowerArm": (0, 12, 0), "spine": (8, 20, 0), "head": (5, 30, 0)}),
    )
    k.at(
        t + 2.0,
        **(
            down | {"rightUpperArm": (0, 60, 5), "rightLowerArm": (0, 30, 0), "spine": (4, -18, 0), "head": (0, -35, 0)}
        ),
    )
    k.at(t + 2.9, **down)
    t = _steps(k, t + 3.1, [4, 3, 2, 1, 0, 0], down, rng)
    return t + 0.4


def _steps(k, t, numbers, down, rng):
    """Feet in turn onto steps of these numbers, the pelvis between the feet and a little over the lower one."""
    before = k.climbed
    for i, number in enumerate(numbers):
        lasts = rng.uniform(0.75, 0.9)
        side, sign = (("left", 1.0), ("right", -1.0))[i % 2]
        place = (0.0, number * TREAD_M, number * RISE_M)
        k.steps.append((t, t + 0.75 * lasts, side, place, 0.10, False))
        lower, upper = sorted((before, number))
        k.pelvis.append((t + 0.3 * lasts, (-sign * 0.05, before * RISE_M - 0.02, before * TREAD_M)))
        k.pelvis.append(
            (t + lasts, (sign * 0.03, lower * RISE_M + (0.02 if upper > lower else 0.0), (lower + upper) / 2 * TREAD_M))
        )
        swing = {
            n: tuple(a + b for a, b in zip(v, (0, sign * 15, 0), strict=True)) if "UpperArm" in n else v
            for n, v in down.items()
        }
        k.at(t + 0.6 * lasts, hips=(8, sign * 4, 0), spine=(6, -sign * 6, 0), head=(10, 0, 0), **swing)
        t, before = t + lasts, number
    k.climbed = numbers[-1]
    k.pelvis.append((t + 0.3, (0.0, numbers[-1] * RISE_M, numbers[-1] * TREAD_M)))
    k.at(t + 0.3, **down)
    return t + 0.4


def desk_watch(k, t, rng):
    """Sits at the desk, listens and writes; twice both hands go under the desk, where no camera sees them."""
    k.steps += [
        (t, t + 0.5, "left", (0.02, 0.12), 0.05, False),
        (t + 0.4, t + 0.9, "right", (-0.02, 0.12), 0.05, False),
    ]
    sit = (0.0, -0.40, -0.28)
    k.pelvis += [(t, (0, 0, 0)), (t + 1.6, sit)]
    on = k.both(UpperArm=(0, -35, -52), LowerArm=(0, -60, 0))
    under = k.both(UpperArm=(0, -18, -70), LowerArm=(0, -52, 0))
    k.at(t + 1.0, hips=(25, 0, 0), spine=(15, 0, 0), **on)
    t += 1.9
    for i in range(9):
        d = rng.uniform(1.0, 1.5)
        hidden = i % 4 in (1, 2)
        pose = under if hidden else on
        fidget = {name: tuple(v + rng.uniform(-9, 9) for v in value) for name, value in pose.items()}
        k.at(t + d, **(fidget | {"spine": (rng.uniform(0, 12), rng.uniform(-12, 12), 0), "hips": (-4, 0, 0),
             "neck": (rng.uniform(0, 14), rng.uniform(-20, 20), 0), "head": (rng.uniform(-6, 10), rng.uniform(-20, 20), 0)}))  # fmt: skip
        k.pelvis.append((t + d, (rng.uniform(-0.02, 0.02), sit[1], sit[2])))
        if hidden:
            k.covered.append((t + 0.3, t + d + 0.3, DESK_HANDS))
        t += d
    k.at(t + 0.7, hips=(28, 0, 0), spine=(15, 0, 0), **on)
    k.pelvis += [(t + 0.3, sit), (t + 1.6, (0, 0, 0.05))]
    k.steps += [(t + 1.7, t + 2.1, "left", (0, 0), 0.05, False), (t + 2.1, t + 2.5, "right", (0, 0), 0.05, False)]
    k.pelvis.append((t + 2.6, (0, 0, 0)))
    return t + 2.4
