"""Where two sensors meet: both feel the same acceleration at the joint between their limbs.

With S the rotation of a sensor to its filter's world, f its specific force and r the joint as seen from the sensor, the joint's specific
force is S f + S'' r. For two neighbours it is the same vector, seen in two worlds that differ by a heading. That gives r on both sides and
the heading between the filters, without a pose and without knowing how the sensors sit.

Source: T. Seel, T. Schauer, J. Raisch, Joint axis and position estimation from inertial measurement data by exploiting kinematic
constraints, 2012; headings by accelerations: M. Kok, J. D. Hol, T. B. Schön, An optimization-based approach to human body motion capture
using inertial sensors, 2014.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import within_half_a_turn
from otrevo.core.inertial.joint_fit import PLACE_M, believe, fit_from, left_over, places_of, products_of
from otrevo.core.inertial.poses import above_of

NOISE_MS2 = 0.3  # at least: tilts and the sensors themselves
ARM_M = 0.35  # how far a joint is from a sensor, give or take
NEAR_M = 0.02  # how far it is from where a calibration found it
PARTS = 16  # of a recording, compared with each other
WORSE = 2.0  # headings are off by so many times what the fit knows of: skin, and joints that are no points
TREMBLE = 1.2  # how much more bends tremble than the readings show
# bends by skin for each m/s² that a limb feels, 1/s²: as is usual, and as may be
SKIN_PER_M, SKIN_MAY_PER_M = 0.17, 0.45
SWINGS_RAD_PER_MS2 = 0.0004  # by so much skin tilts a sensor, and quickly where that changes quickly

GRID_STEP_RAD = np.radians(6.0)
_GRID = np.arange(-np.pi, np.pi - 1e-6, GRID_STEP_RAD)
NEAREST_RAD = np.radians(20.0)
# Skin errs with the movement, so that of a pelvis that hardly moves it may tell a thigh's heading the wrong way round. Another heading, so
# far from the best one, that leaves no more than so many times as much unexplained may be the true one.
FAR_RAD, RIVAL = np.radians(75.0), 1.15
_TURNED = np.array(
    [np.diag([0.0, 1, 0]), np.diag([1.0, 0, 1]), [[0, 0, 1], [0, 0, 0], [-1, 0, 0]]]
)  # by 1, cosine and sine

# (bone of the sensor above, bone of the sensor below, the bone whose joint they share), from the hips outwards
LINKS = (
    ("hips", "chest", "spine"), ("chest", "head", "neck"),
    *((a, s + b, s + c) for s in ("left", "right") for a, b, c in (
        ("hips", "UpperLeg", "UpperLeg"), ("chest", "Shoulder", "Shoulder"))),
    *((s + a, s + b, s + b) for s in ("left", "right") for a, b in (
        ("UpperLeg", "LowerLeg"), ("LowerLeg", "Foot"), ("Shoulder", "UpperArm"), ("UpperArm", "LowerArm"),
        ("LowerArm", "Hand"))),
)  # fmt: skip
TRUNK = "chest", "leftShoulder", "rightShoulder"  # bones without which what hangs on them hangs on the next one
LOOSE = {
    "spine": 2.0,
    "neck": 2.0,
    "leftShoulder": 2.0,
    "rightShoulder": 2.0,
    "leftUpperArm": 1.5,
    "rightUpperArm": 1.5,
}


@dataclass(frozen=True)
class Link:
    """Two neighbouring sensors, above and below, by name, and the bone whose joint they share.

    above_m, below_m (3,): the joint in either sensor's axes. heading_rad: of the filter above less that below, at time zero_s;
    drift_rad_s; sd_rad: of the heading; above_cov, below_cov (3, 3): of the places, m²; noise_ms2: what is left;
    unexplained: what is left of all that both sides feel, 0 to 1; felt_ms2: all that, RMS of both sides.
    """

    above: str
    below: str
    joint: str
    above_m: np.ndarray
    below_m: np.ndarray
    heading_rad: float
    drift_rad_s: float
    zero_s: float
    sd_rad: float
    above_cov: np.ndarray
    below_cov: np.ndarray
    noise_ms2: float
    unexplained: float
    felt_ms2: float

    @property
    def heading_sd(self):
        """One sigma of the heading, rad: larger where little of what is felt is explained, as in limbs that hardly move; then infinite."""
        told = 1.0 - self.unexplained**2
        return np.inf if told < 0.2 else np.hypot(self.sd_rad, np.radians(0.5)) * WORSE / told


def links_of(names):
    """The LINKS among sensors `names`. Without a sensor on a collar bone its arm hangs on the chest; without one on the chest, what would
    hang on that hangs on the hips."""
    out = []
    for above, below, joint in LINKS:
        while above in TRUNK and above not in names:
            above = above_of(above)
        if below in names and above in names:
            out.append((above, below, joint))
    return out


def heading_matrix(angle):
    """Rotations (..., 3, 3) by angles about +Y."""
    c, s, zero = np.cos(angle), np.sin(angle), np.zeros_like(angle)
    return np.stack(
        [np.stack([c, zero, s], -1), np.stack([zero, zero + 1, zero], -1), np.stack([-s, zero, c], -1)], axis=-2
    )


def find_links(felt_, known=None, near_m=NEAR_M):
    """Every Link among the sensors of a Felt.

    known: {joint: (above_m (3,), below_m (3,), heading_rad, drift_rad_s, sd_rad)}: what is known of the joints' places, within near_m,
    and of the headings at the Felt's middle, one sigma; they are looked for that far around.
    """
    known = known or {}
    return [_find(felt_, *names, known.get(names[2]), near_m) for names in links_of(felt_.names)]


def find_link(felt_, above, below, joint):
    """The Link between two sensors of a Felt, whatever limbs they are said to be on."""
    return _find(felt_, above, below, joint, None, NEAR_M)


def unexplained(felt_, above, below, joint):
    """(unexplained, felt_ms2) of the Link between two sensors of a Felt, whatever limbs they are said to be on."""
    sides = _sides(felt_, above, below, joint, None, NEAR_M)
    (_, _, r, _, columns, _, _), _ = _fit(sides, felt_.alike, None)
    return sides.unexplained(columns, r), float(sides.felt_ms2)


def _costs_of_headings(headings, upper, lower, trembles, skins, noise, usual_m, arm_m):
    """What the best places of the joint leave unexplained, with their prior, for each of `headings` (H,) between two filters.

    upper, lower: (force (K, 3), bend (K, 3, 3)) of both sides; trembles, skins: as in _Sides. A heading comes into every product of the two sides by its cosine and its
    sine alone, so the samples are gone through once and not once for each heading.
    """
    (force_u, bend_u), (force_l, bend_l) = upper, lower
    flat_u = np.concatenate([bend_u, force_u[..., None]], axis=2)  # (K, 3, 4)
    flat_l = np.concatenate([bend_l, force_l[..., None]], axis=2)
    own_u, own_l = (flat.reshape(-1, 4).T @ flat.reshape(-1, 4) for flat in (flat_u, flat_l))
    across = (flat_u.reshape(-1, 12).T @ flat_l.reshape(-1, 12)).reshape(3, 4, 3, 4)
    across = np.einsum("nij,iajb->nab", _TURNED, across)
    turns = np.stack([np.ones(len(headings)), np.cos(headings), np.sin(headings)], axis=1)
    across = np.einsum("hn,nab->hab", turns, across)  # upper's columns by the turned lower's
    normal = np.zeros((len(headings), 6, 6))
    normal[:, :3, :3], normal[:, 3:, 3:] = own_u[:3, :3], own_l[:3, :3]
    normal[:, :3, 3:] = -across[:, :3, :3]
    normal[:, 3:, :3] = normal[:, :3, 3:].swapaxes(1, 2)
    aim = np.concatenate([across[:, :3, 3] - own_u[:3, 3], across[:, 3, :3] - own_l[:3, 3]], axis=1)
    wanted2 = own_u[3, 3] + own_l[3, 3] - 2 * across[:, 3, 3]
    firm = len(force_u) / noise**2
    r = places_of(normal / noise**2, aim / noise**2, firm * trembles, firm * skins, usual_m, arm_m)
    left = np.einsum("ha,hab,hb->h", r, normal, r) - 2 * (r * aim).sum(1) + wanted2
    return left / noise**2 + ((r - usual_m) ** 2).sum(1) / arm_m**2


def _scatter_of_parts(columns, weight, trembled, r, normal, noise):
    """Covariance (8, 8) of a joint's places r, the heading and its drift, by how differently parts of a recording pull them; trembled (6,):
    what trembling adds to the places' diagonal with each sample. columns (9, 3 K), weight (K,): as in products_of.

    Where a joint only ever bends about one axis, nothing but errors tells where along it the joint is, and skin errs differently in
    every movement. The fit alone would call that certain. Source: H. White, Maximum likelihood
    estimation of misspecified models, Econometrica 50, 1982, with parts for single samples.
    """
    edges = np.linspace(0, len(weight), PARTS + 1).astype(int)
    pulls = (columns[:8] * left_over(columns, r)).reshape(8, 3, -1).sum(axis=1) * weight
    pulls[:6] += np.outer(trembled * r, weight)
    pull = np.array([pulls[:, a:b].sum(axis=1) for a, b in zip(edges[:-1], edges[1:], strict=True)]) / noise**2
    pull -= pull.mean(axis=0)
    off = np.linalg.solve(normal, pull.T) * np.sqrt(PARTS / (PARTS - 1))
    return off @ off.T


@dataclass(frozen=True)
class _Sides:
    """What both sensors beside a joint feel at times_s (K,) while both are known, from the middle of the recording, and what is expected of it.

    upper, lower: (force (K, 3), bend (K, 3, 3)); trembles, skins (6,): what both add to the places' diagonal with each sample; calm (K,): how much
    each sample counts at best; usual_m (6,), arm_m: where the joint is, give or take; noise: m/s².
    """

    upper: tuple
    lower: tuple
    times_s: np.ndarray
    zero_s: float
    trembles: np.ndarray
    skins: np.ndarray
    calm: np.ndarray
    usual_m: np.ndarray
    arm_m: float
    noise: float

    @property
    def felt_ms2(self):
        """All that both sides feel, RMS."""
        return np.sqrt(sum((force**2).sum() for force, _ in (self.upper, self.lower)) / 2 / max(1, len(self.times_s)))

    def unexplained(self, columns, r):
        """What places r leave of all that both sides feel, 0 to 1."""
        told = self.felt_ms2 * np.sqrt(max(1, len(self.times_s)))
        return float(np.linalg.norm(left_over(columns, r)) / max(told, 1e-9))


def _sides(felt_, above, below, joint, near, near_m):
    both = [felt_.names.index(above), felt_.names.index(below)]
    ok = felt_.known[:, both].all(axis=1)
    zero = float(felt_.times_s.mean())
    upper, lower = ((felt_.force[ok, k], felt_.bend[ok, k]) for k in both)
    calm = np.ones(len(upper[0]))
    if near:  # where limbs are shaken, skin swings most, and what it feigns goes with the movement as no noise does
        swings = SWINGS_RAD_PER_MS2 * PLACE_M * np.hypot(*felt_.shakes[ok][:, both].T)
        calm = 1 / (1 + (swings / NOISE_MS2) ** 2)
    feels2 = [calm @ (force**2).mean(axis=1) / max(calm.sum(), 1e-9) for force, _ in (upper, lower)]
    return _Sides(
        upper, lower, felt_.times_s[ok] - zero, zero, 3 * np.repeat((TREMBLE * felt_.tremble[both]) ** 2, 3),
        3 * (SKIN_MAY_PER_M if near else SKIN_PER_M) ** 2 * np.repeat(feels2, 3), calm,
        np.concatenate(near[:2]) if near else np.zeros(6), near_m if near else ARM_M, NOISE_MS2 * LOOSE.get(joint, 1.0),
    )  # fmt: skip


def _fit(sides, alike, near):
    """(what fit_from gives, spread of the heading by the grid alone, rad) of _Sides; alike: of the Felt; near: as in find_links."""
    grid, unlikely = _GRID, 0.0
    if near:
        grid = near[2] + _GRID[np.abs(_GRID) < max(NEAREST_RAD, 3 * near[4])]
        unlikely = ((grid - near[2]) / near[4]) ** 2
    costs = _costs_of_headings(
        grid, sides.upper, sides.lower, sides.trembles, sides.skins, sides.noise, sides.usual_m, sides.arm_m
    )
    costs = costs / (alike * max(1.0, costs.min() / (3 * len(sides.times_s)))) + unlikely
    likely = np.exp(-0.5 * (costs - costs.min()))
    length = np.clip(np.abs(likely @ np.exp(1j * grid)) / likely.sum(), 1e-9, 1.0)
    spread = np.sqrt(-2 * np.log(length))  # of what lies on a circle: where nothing moves, any heading does as well
    spread = spread if spread > GRID_STEP_RAD else 0.0  # the fit knows better than steps of the grid
    rivals = costs[np.abs(np.angle(np.exp(1j * (grid - grid[np.argmin(costs)])))) > FAR_RAD]
    if len(rivals) and rivals.min() < RIVAL * costs.min():
        spread = max(spread, FAR_RAD)
    fitted = fit_from(
        *sides.upper, *sides.lower, sides.times_s, sides.calm, sides.trembles, sides.skins, near is not None,
        sides.usual_m, sides.arm_m, sides.noise, grid[np.argmin(costs)], float(near[3]) if near else 0.0,
    )  # fmt: skip
    return fitted, spread


def _find(felt_, above, below, joint, near, near_m):
    sides = _sides(felt_, above, below, joint, near, near_m)
    (psi, drift, r, normal, columns, weight, noise), spread = _fit(sides, felt_.alike, near)
    covariance = np.linalg.inv(normal) * felt_.alike
    covariance += _scatter_of_parts(columns, weight, sides.trembles, r, normal, noise)
    if near:  # skin, or how bends tremble, may be what moves the joint away from there
        products = products_of(columns, weight) / noise**2 / felt_.alike
        firm = weight.sum() / noise**2 / felt_.alike
        believed, share = believe(products[:6, :6].copy(), firm * sides.trembles, firm * sides.skins)
        covariance[:6, :6] = np.linalg.inv(share @ believed + np.eye(6) / sides.arm_m**2)
        r = covariance[:6, :6] @ (share @ products[:6, 8] + sides.usual_m / sides.arm_m**2)
    return Link(
        above, below, joint, r[:3], r[3:], float(within_half_a_turn(psi)), float(drift), sides.zero_s,
        float(max(np.sqrt(covariance[6, 6]), spread)), covariance[:3, :3], covariance[3:6, 3:6], noise,
        sides.unexplained(columns, r), float(sides.felt_ms2),
    )  # fmt: skip
