"""A performer's motion on a character: the pass from a Motion, a Character and a MapSheet to a CharacterMotion."""

from dataclasses import dataclass, field, replace

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.skeleton import rest_joints
from otrevo.core.errors import InputError
from otrevo.core.retarget.angles import follow, place_joints, pose_angles
from otrevo.core.retarget.effectors import controls_size, effectors_of_character, effectors_of_performer, move_controls
from otrevo.core.retarget.face_bones import turn_face_bones
from otrevo.core.retarget.feet import bend_toes, keep_plants, sole_height
from otrevo.core.retarget.held import hands_off_props, prop_on_character
from otrevo.core.retarget.judge import Judged, judge
from otrevo.core.retarget.plan import make_plan
from otrevo.core.retarget.plants import find_plants
from otrevo.core.retarget.reach import follows_between, reach_places
from otrevo.core.retarget.settings import RetargetSettings
from otrevo.core.retarget.trunk import lean_spine

CHUNK_FRAMES = 1200  # between two looks at whether somebody cancelled


@dataclass(frozen=True)
class CharacterMotion:
    """A character over time, in our axes and metres: positions (T, B, 3) of joints, rotations (T, B, 4) bone to world.

    rate: exact; driven (B,): whether anything moves the bone; plants: the performer's, kept; missed: {limb: how far it ends from
    the place it reaches for (T,)}; judged: how well it follows its performer; carry: (pose (T, 7), points (K, 3)) of a prop ->
    its pose with the character; carried: {name: pose (T, 7)} of the props that were given; prop_scale: how large props are
    with it. effectors: the EffectorTracks; loose: numbers of bones that do not lie where their parent carries them.
    """

    character: object
    rate: object
    positions: np.ndarray
    rotations: np.ndarray
    driven: np.ndarray
    root: int
    plants: tuple = ()
    missed: dict = field(default_factory=dict)
    judged: object = None
    carry: object = None
    carried: dict = field(default_factory=dict)
    prop_scale: float = 1.0
    effectors: tuple = ()
    loose: frozenset = frozenset()

    @property
    def figures(self):
        return self.judged.figures

    def __len__(self):
        return len(self.positions)


def retarget(
    motion,
    character,
    sheet,
    settings=None,
    plants=None,
    progress=lambda share: None,
    ankle_m=None,
    face=None,
    props=None,
):
    """The CharacterMotion of a performer's Motion.

    Parameters
    ----------
    motion : Motion
        On a skeleton with VRM bone names; world axes, metres, floor at 0.
    character : Character
    sheet : MapSheet
        Of that character.
    settings : RetargetSettings, optional
    plants : list of Plant, optional
        The performer's, as somebody edited them; found where not given.
    progress : callable, optional
        Called with the share that is done; it may raise to stop the work.
    ankle_m : float, optional
        Height of the performer's ankles over the floor while they stand, for a motion in which no foot ever stands.
    face : tuple, optional
        (names, values (T, S), ShapeDrivers): the performer's face shapes at the motion's frames, and which of the character's own
        they move. What no shape shows, eyes and jaw show by their bones.
    props : dict, optional
        {name: (pose (T, 7), points (K, 3))}: positions and rotations of props with the performer, and points of them about their origin.
        Hands reach onto these where the settings say so.

    Returns
    -------
    CharacterMotion

    Raises
    ------
    InputError
        When the motion lacks the hips or holds NaN.
    """
    settings = settings or RetargetSettings()
    if "hips" not in motion.skeleton.names:
        raise InputError("The motion has no bone 'hips'; expected a body with VRM bone names.")
    if not (np.isfinite(motion.root_position_m).all() and np.isfinite(motion.rotation_local).all()):
        raise InputError("The motion holds frames without a pose (NaN); expected every frame to have one.")
    joint, rotation = motion_joints(motion)
    if not sheet.pairs:
        ankle = _ankle(motion, joint, find_plants(motion, joint, rotation) if plants is None else plants, ankle_m)
        return _effectors_alone(motion, character, sheet, settings, joint, rotation, ankle, props)
    plan = make_plan(character, sheet, motion.skeleton, settings.stance)
    frames, count = len(motion), len(character.names)
    rotations, positions = np.empty((frames, count, 4)), np.empty((frames, count, 3))
    rotation = np.ascontiguousarray(rotation)
    for first in range(0, frames, CHUNK_FRAMES):
        pose_angles(plan.arrays, first, min(first + CHUNK_FRAMES, frames), rotation, rotations)
        progress(0.5 * min(1.0, (first + CHUNK_FRAMES) / frames))
    driven = plan.arrays.before >= 0
    follow(plan.arrays, 0, frames, rotations)
    lean_spine(plan, joint, rotation, rotations, settings.stance)
    if any(follows_between(plan, b) for b in plan.joints.values() if driven[b]):  # what nobody drives carries limbs
        follow(plan.arrays, 0, frames, rotations)
    if plants is None:
        plants = find_plants(motion, joint, rotation)
    ankle = _ankle(motion, joint, plants, ankle_m)
    at = _hips_path(plan, motion, joint, rotations, positions, settings, ankle)
    place_joints(plan.arrays, 0, frames, plan.root, at, rotations, positions)
    progress(0.7)
    levels = floor_levels(plants)
    scale = plan.legs_ratio if settings.scale == "character" else 1.0
    keep_plants(plan, float(motion.rate), plants, levels, scale, at, rotations, positions, settings.floor)
    follow(plan.arrays, 0, frames, rotations)
    place_joints(plan.arrays, 0, frames, plan.root, at, rotations, positions)
    if settings.floor:
        bend_toes(plan, rotations, positions)
    missed = reach_places(plan, motion, joint, rotation, settings, scale, at, rotations, positions, props)
    if face is not None and turn_face_bones(plan, face[2], face[0], face[1], rotations):
        place_joints(plan.arrays, 0, frames, plan.root, at, rotations, positions)
    progress(0.9)
    tracks = effectors_of_character(plan, sheet, rotations, positions, settings.effectors)
    loose = frozenset(move_controls(character, tracks, driven, rotations, positions))
    result = CharacterMotion(character, motion.rate, positions, rotations, driven, plan.root, tuple(plants), missed,
                             effectors=tracks, loose=loose)  # fmt: skip
    size = plan.legs_ratio if settings.prop_size == "character" else 1.0

    def carry(pose, points):
        return prop_on_character(positions, plan, motion, joint, rotation, pose, points, scale, size)

    carried = {name: carry(*given) for name, given in (props or {}).items()}
    off = hands_off_props(positions, plan, motion, joint, rotation, props or {}, carried, size)
    judged = judge(result, plan, motion, joint, rotation, off)
    result = replace(result, judged=judged, carry=carry, carried=carried, prop_scale=size)
    progress(1.0)
    return result


def _effectors_alone(motion, character, sheet, settings, joint, rotation, ankle, props):
    """The CharacterMotion by a map sheet that names effectors and no joints: the rig does the rest, so its bones stay at rest."""
    frames = len(motion)
    rotations, positions = (np.repeat(x[None], frames, axis=0) for x in (character.rotations, character.positions))
    rest, names = rest_joints(motion.skeleton), motion.skeleton.names
    tracks = effectors_of_performer(character, sheet, names, joint, rotation, rest, settings, ankle)
    driven = np.zeros(len(character.names), dtype=bool)
    loose = frozenset(move_controls(character, tracks, driven, rotations, positions))
    figures = {"limbs": {}, "directions_deg": {}, "slide_mm": 0.0, "sink_mm": 0.0, "float_mm": 0.0, "knee_snap_share": 0.0,
               "flips": 0, "scale": round(controls_size(character, sheet, rest), 4)}  # fmt: skip
    return CharacterMotion(character, motion.rate, positions, rotations, driven, 0,
                           judged=Judged({}, {}, {}, {}, {}, figures), effectors=tracks, loose=loose,
                           carry=lambda pose, points: pose, carried={n: pose for n, (pose, _) in (props or {}).items()})  # fmt: skip


def floor_levels(plants):
    """{bone: the lowest height at which its point stands}: the floor, as this body shows it."""
    out = {}
    for p in plants:
        out[p.bone] = min(out.get(p.bone, np.inf), p.level_m)
    return out


def _hips_path(plan, motion, joint, rotations, positions, settings, own_ankle):
    """Where the bone that carries the hips lies (T, 3): hip joints go where the performer's go, by the legs' ratio.

    own_ankle: height of the performer's ankles over the floor while they stand.
    """
    names = motion.skeleton.names
    hips = [names.index(b) for b in ("leftUpperLeg", "rightUpperLeg") if b in names] or [names.index("hips")]
    theirs = [plan.joints[b] for b in ("leftUpperLeg", "rightUpperLeg") if b in plan.joints] or [plan.root]
    frames, k = len(motion), plan.legs_ratio
    path = joint[:, hips].mean(axis=1)
    wanted = path * (k if settings.scale == "character" else 1.0)
    ankle = _character_ankle(plan)
    wanted[:, 1] = settings.hips_height * (ankle + k * (path[:, 1] - own_ankle)) + sole_height(plan.character)
    place_joints(plan.arrays, 0, frames, plan.root, np.zeros((frames, 3)), rotations, positions)
    return wanted - positions[:, theirs].mean(axis=1)


def _character_ankle(plan):
    feet = [plan.joints[b] for b in ("leftFoot", "rightFoot") if b in plan.joints]
    return float(plan.character.positions[feet, 1].mean()) - sole_height(plan.character) if feet else 0.0


def _ankle(motion, joint, plants, told):
    """Height of the performer's ankle over the floor while a foot stands, from the motion itself; told: it, or None, where none does."""
    names, rate = motion.skeleton.names, float(motion.rate)
    low = []
    for side in ("left", "right"):
        if f"{side}Foot" in names:
            y = joint[:, names.index(f"{side}Foot"), 1]
            standing = np.zeros(len(y), dtype=bool)
            for p in plants:
                if p.bone == f"{side}Foot":
                    standing[int(p.start_s * rate) : int(p.end_s * rate) + 1] = True
            if standing.any():
                low.append(float(np.median(y[standing])))
            else:
                low.append(float(np.percentile(y, 5)) if told is None else told)
    return min(low) if low else 0.0
