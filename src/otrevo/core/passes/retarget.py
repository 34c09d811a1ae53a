"""Retarget: a performer's solved body on one of the characters they play, with what a person should look at."""

from dataclasses import replace

import numpy as np

from otrevo.core.characters.face import driven_values, face_at
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.passes.contract import Figure, Outcome, Parameter, Pass, Track
from otrevo.core.retarget.judge import snags_of
from otrevo.core.retarget.settings import PLACES, RetargetSettings
from otrevo.core.retarget.transfer import retarget

REACHES = {
    "left_hand": "leftHand",
    "right_hand": "rightHand",
    "left_foot": "leftFoot",
    "right_foot": "rightFoot",
}
PATHS, SIZES, STANCES = ("character", "performer"), ("performer", "character"), ("character", "performer")


def settings_of(parameters):
    """RetargetSettings by the pass's parameters."""
    given = {limb: parameters[name] for name, limb in REACHES.items()}
    points = {limb: v if isinstance(v, list) else [[0.0, v]] for limb, v in given.items()}
    reach = {limb: [tuple(p) for p in rows] for limb, rows in points.items() if any(v > 0 for _, v in rows)}
    place = PLACES[parameters["place"]]
    return RetargetSettings(
        hips_height=parameters["hips_height"],
        scale=PATHS[parameters["path"]],
        stance=STANCES[parameters["stance"]],
        reach=reach,
        reach_on={limb: place for limb in reach if limb.endswith("Hand")},
        prop_size=SIZES[parameters["prop_size"]],
        effectors=bool(parameters["effectors"]),
    )


def run(material, parameters, report):
    """The character's motion at the rate of the solve."""
    played = material.character
    if played is None:
        raise InputError("Nobody plays a character in this take; say who plays whom in Cast.")
    motion, clock = material.body()
    face = material.track("solve", "face shapes")
    shown = None
    if face is not None:
        values, names = face.read().astype(float), list(face.details["names"])
        at = face_at(face.clock.times(len(values)), values, clock.times(len(motion)))
        shown = (names, at, played.drivers)
    poses = {prop.name: material.track("solve", "prop pose", prop.name) for prop in material.props}
    seen = {name: pose.read().astype(float) for name, pose in poses.items() if pose is not None}
    props = {p.name: (seen[p.name], p.offset_m) for p in material.props if len(seen.get(p.name, ())) == len(motion)}
    result = retarget(
        _whole(motion),
        played.character,
        played.sheet,
        settings_of(parameters),
        progress=report,
        face=shown,
        props=props,
    )
    bones, rotation, root = tracks_of(result)
    tracks = [
        Track("character rotation", "rotations", motion.rate, rotation, clock, bones),
        Track("character root", "places", motion.rate, root, clock),
    ]
    if face is not None and played.drivers:
        times = face.clock.times(len(values))
        driven = driven_values(played.drivers, times, values, names, times)
        if driven:
            tracks.append(Track("character shapes", "shapes", face.rate, np.stack(list(driven.values()), axis=1), face.clock,
                                {"names": list(driven)}))  # fmt: skip
    for name, (_, points) in props.items():
        tracks.append(Track("character prop", "pose", poses[name].rate, result.carried[name], clock,
                            poses[name].details | {"offsets_m": (result.prop_scale * points).round(6).tolist()}, name))  # fmt: skip
    return Outcome(tuple(tracks), result.figures, tuple(snags_of(result.judged, played.sheet, clock.hz, clock.start_s)))


def _whole(motion):
    """The motion with the frame before in place of frames without a pose."""
    good = np.isfinite(motion.root_position_m).all(axis=1) & np.isfinite(motion.rotation_local).all(axis=(1, 2))
    if not good.any():
        raise InputError("The solved body has no pose in any frame; solve the take again.")
    if good.all():
        return motion
    last = np.maximum.accumulate(np.where(good, np.arange(len(good)), -1))
    last[last < 0] = np.argmax(good)
    return replace(motion, root_position_m=motion.root_position_m[last], rotation_local=motion.rotation_local[last])


def tracks_of(result):
    """(bones, rotations (T, B, 4) in the parent, root positions (T, 3)) of a CharacterMotion, as bodies are stored and drawn.

    Only bones that hang on the hips are in it, the hips first: all others rest. bones: names, parents and offsets from the
    parent's joint in the parent's own axes, metres.
    """
    character, root = result.character, result.root
    kept = [root]
    for b in range(root + 1, len(character.names)):
        if character.parents[b] in kept:
            kept.append(b)
    number = {b: i for i, b in enumerate(kept)}
    parents = [-1] + [number[int(character.parents[b])] for b in kept[1:]]
    world = result.rotations[:, kept]
    local = world.copy()
    local[:, 1:] = quaternion_multiply(quaternion_conjugate(world[:, parents[1:]]), world[:, 1:])
    rest = character.positions[kept]
    offsets = rest.copy()
    inverse = quaternion_conjugate(character.rotations[kept])
    offsets[1:] = quaternion_rotate(inverse[parents[1:]], rest[1:] - rest[parents[1:]])
    bones = {"bones": [character.names[b] for b in kept], "parents": parents, "offsets_m": offsets.round(7).tolist()}
    return bones, local, result.positions[:, root]


def _aside(figures):
    knees = 100 * figures.get("knee_snap_share", 0.0)
    flips = figures.get("flips", 0)
    return f"slide · knees {knees:.1f} %" + (f" · {flips} flip{'s' if flips > 1 else ''}" if flips else "")


_REACH = (
    "0 keeps the angles of the performer's limb, 1 its place. Usual: 0; 1 for a hand that holds or touches something."
)

PASS = Pass(
    name="retarget",
    words="Retarget",
    doing="retargeting",
    done="retargeted",
    needs=("solve",),
    about="character",
    run=run,
    aside=_aside,
    figure=Figure(
        "slide_mm", "mm", 5.0,
        "How far a foot slides at most while the performer's stands. Up to 5 mm nobody sees.",
    ),
    parameters=(
        Parameter("hips_height", "hips height", 1.0, 0.5, 1.5, "times the character's own",
                  "How high the hips stand. Usual: 1.", 0.01),
        Parameter("path", "path", 0, 0, 1, "", "Ways in the room shrink or grow with the character, or stay the performer's.",
                  1, True, ("by the character's size", "as in the room")),
        Parameter("stance", "posture", 0, 0, 1, "", "How spine, neck and shoulders stand while the performer stands upright.",
                  1, True, ("the character's own", "the performer's")),
        Parameter("prop_size", "held props", 0, 0, 1, "", "Props go along in the hands that hold them.",
                  1, True, ("as large as they are", "in the character's proportion")),
        Parameter("left_hand", "left hand reaches", 0.0, 0.0, 1.0, "", _REACH, 0.05, over_time=True),
        Parameter("right_hand", "right hand reaches", 0.0, 0.0, 1.0, "", _REACH, 0.05, over_time=True),
        Parameter("place", "hands reach", 0, 0, 3, "", "Where the place of the hands is.",
                  1, True, ("to their place in the room", "for each other", "onto the own body", "onto the props near them")),
        Parameter("left_foot", "left foot reaches", 0.0, 0.0, 1.0, "", _REACH, 0.05, over_time=True),
        Parameter("right_foot", "right foot reaches", 0.0, 0.0, 1.0, "", _REACH, 0.05, over_time=True),
        Parameter("effectors", "effectors", 0, 0, 1, "", "Tracks of hips, hands, feet, elbows and knees in the files, for rigs that take controls.",
                  1, True, ("those the map names", "all of them")),
    ),
)  # fmt: skip
