"""A character's motion as USD: the given file's contents with a UsdSkel animation that its skeleton is bound to.

Time codes are frames, `timeCodesPerSecond` the rate. Every joint gets its local rotation and translation, in the skeleton's own
space and the file's unit; scales are one. Effectors that are no joints are transforms of their own, in the stage's world.
"""

from pathlib import Path

import numpy as np

from otrevo.core.characters.usd import largest_skeleton, opened, read_usd
from otrevo.core.conventions import make_continuous, matrix_from_quaternion, quaternion_from_matrix, quaternion_multiply
from otrevo.core.errors import InputError

EFFECTORS_SCOPE = "effectors"


def write_usd_motion(path, given, motion, name="take", shapes=None):
    """Write a CharacterMotion over the USD file `given`. Whole or not at all.

    shapes: {blend shape of the file: values (T,) 0 to 1}, for its face.

    Raises InputError when the given file is not the one the character was read from.
    """
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt

    path, character, skeleton = Path(path), motion.character, read_usd(given)
    if tuple(skeleton.names) != tuple(character.names):
        raise InputError(f"{Path(given).name}: its bones are not those of the character '{character.name}'; expected the file it was read from.")  # fmt: skip
    partial = path.with_name(f"{path.stem}.part{path.suffix}")
    layer = Sdf.Layer.CreateNew(str(partial))
    try:
        source = opened(given)  # its layer lives as long as it does
        layer.TransferContent(source.GetRootLayer())
        stage = Usd.Stage.Open(layer)
        skel = largest_skeleton(stage)
        prim = skel.GetPrim()
        to_file = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(prim)).T
        rotations, translations = _local(skeleton, motion, to_file)
        order = np.empty(len(skeleton.nodes), dtype=np.int64)
        order[skeleton.nodes] = np.arange(len(skeleton.nodes))  # the file's own order of joints
        made = UsdSkel.Animation.Define(stage, prim.GetPath().GetParentPath().AppendChild(_plain(name)))
        made.CreateJointsAttr(skel.GetJointsAttr().Get())
        turns, moves = made.CreateRotationsAttr(), made.CreateTranslationsAttr()
        made.CreateScalesAttr(Vt.Vec3hArray([Gf.Vec3h(1, 1, 1)] * len(order)))
        for t in range(len(motion)):
            x = rotations[t, order]
            turns.Set(Vt.QuatfArray([Gf.Quatf(float(q[3]), float(q[0]), float(q[1]), float(q[2])) for q in x]), t)
            moves.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(translations[t, order], dtype=np.float32)), t)
        if shapes:
            made.CreateBlendShapesAttr(Vt.TokenArray(list(shapes)))
            weights, table = (
                made.CreateBlendShapeWeightsAttr(),
                np.stack(list(shapes.values()), axis=1).astype(np.float32),
            )
            for t in range(len(motion)):
                weights.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(table[t])), t)
        _write_effectors(stage, motion)
        UsdSkel.BindingAPI.Apply(prim).CreateAnimationSourceRel().SetTargets([made.GetPath()])
        stage.SetTimeCodesPerSecond(float(motion.rate))
        stage.SetFramesPerSecond(float(motion.rate))
        stage.SetStartTimeCode(0)
        stage.SetEndTimeCode(len(motion) - 1)
        layer.Save()
        del stage, layer
        partial.replace(path)
    finally:
        partial.unlink(missing_ok=True)


def _write_effectors(stage, motion):
    from pxr import Gf, UsdGeom

    tracks = [t for t in motion.effectors if t.bone < 0]
    if not tracks:
        return
    top = stage.GetDefaultPrim()
    scope = UsdGeom.Scope.Define(
        stage, (top.GetPath() if top else stage.GetPseudoRoot().GetPath()).AppendChild(EFFECTORS_SCOPE)
    )
    back = matrix_from_quaternion(motion.character.from_file[1]).T
    change = quaternion_from_matrix(back)
    for name, track in usd_names(tracks).items():
        xform = UsdGeom.Xform.Define(stage, scope.GetPath().AppendChild(name))
        xform.SetResetXformStack(True)
        move, turn = xform.AddTranslateOp(), xform.AddOrientOp(UsdGeom.XformOp.PrecisionDouble)
        places = track.positions @ back.T / motion.character.from_file[0]
        turns = make_continuous(quaternion_multiply(change, track.rotations))
        for t, (p, q) in enumerate(zip(places.tolist(), turns.tolist(), strict=True)):
            move.Set(Gf.Vec3d(*p), t)
            turn.Set(Gf.Quatd(q[3], q[0], q[1], q[2]), t)


def usd_names(tracks):
    """{a name that USD takes: the EffectorTrack}, each name once."""
    out = {}
    for track in tracks:
        name = _plain(track.name)
        out[name if name not in out else f"{name}_{len(out)}"] = track
    return out


def read_usd_effectors(path):
    """{name: (places (T, 3), rotations (T, 3, 3))} of the effectors in a USD file, in its axes and unit."""
    from pxr import UsdGeom

    stage, out = opened(path), {}
    times = range(int(stage.GetStartTimeCode()), int(stage.GetEndTimeCode()) + 1)
    for prim in stage.Traverse():
        if prim.GetParent().GetName() == EFFECTORS_SCOPE and prim.IsA(UsdGeom.Xform):
            world = np.array([np.array(UsdGeom.XformCache(t).GetLocalToWorldTransform(prim)).T for t in times])
            out[prim.GetName()] = world[:, :3, 3], world[:, :3, :3]
    return out


def _plain(name):
    """A name that USD takes for a prim."""
    kept = "".join(c if c.isascii() and (c.isalnum() or c == "_") else "_" for c in name)
    return kept if kept and not kept[0].isdigit() else f"take_{kept}"


def _local(skeleton, motion, to_file):
    """(rotations (T, B, 4), translations (T, B, 3)) of joints seen from their parents, or from the skeleton."""
    character = motion.character
    back = matrix_from_quaternion(character.from_file[1]).T
    inverse = np.linalg.inv(to_file)
    scale = np.cbrt(abs(np.linalg.det(to_file[:3, :3])))
    turns = (inverse[:3, :3] * scale) @ back @ matrix_from_quaternion(motion.rotations)
    places = np.einsum("ij,tbj->tbi", back, motion.positions) / character.from_file[0]
    places = np.einsum("ij,tbj->tbi", inverse[:3, :3], places) + inverse[:3, 3]
    rotations, translations = turns.copy(), places.copy()
    for b, parent in enumerate(skeleton.parents):
        if parent >= 0:
            above = turns[:, parent].transpose(0, 2, 1)
            rotations[:, b] = above @ turns[:, b]
            translations[:, b] = np.einsum("tij,tj->ti", above, places[:, b] - places[:, parent])
    return make_continuous(quaternion_from_matrix(rotations)), translations


def read_usd_motion(path):
    """(times (T,), joints (T, B, 3), rotations (T, B, 3, 3), FileSkeleton) of a USD file's skeleton animation, in its axes and unit.

    By UsdSkel's own queries. Raises InputError for a file without an animation.
    """
    from pxr import UsdGeom, UsdSkel

    skeleton, stage = read_usd(path), opened(path)
    skel = largest_skeleton(stage)
    cache = UsdSkel.Cache()
    query = cache.GetSkelQuery(skel)
    animation = query.GetAnimQuery()
    samples = animation.GetJointTransformTimeSamples() if animation else []
    if len(samples) < 2:
        raise InputError(f"{Path(path).name}: its skeleton has no animation; expected a motion.")
    to_file = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(skel.GetPrim())).T
    world = np.array([np.array(query.ComputeJointSkelTransforms(t)) for t in samples]).transpose(0, 1, 3, 2)
    world = (to_file @ world)[:, skeleton.nodes]
    turns = world[..., :3, :3] / np.cbrt(np.linalg.det(world[..., :3, :3]))[..., None, None]
    return np.array(samples) / stage.GetTimeCodesPerSecond(), world[..., :3, 3], turns, skeleton


def read_usd_shapes(path):
    """{blend shape: values (T,)} of a USD file's skeleton animation; empty where it has none."""
    from pxr import UsdSkel

    stage = opened(path)
    query = UsdSkel.Cache().GetSkelQuery(largest_skeleton(stage)).GetAnimQuery()
    names = list(query.GetBlendShapeOrder()) if query else []
    samples = query.GetBlendShapeWeightTimeSamples() if names else []
    table = np.array([np.array(query.ComputeBlendShapeWeights(t)) for t in samples]).reshape(len(samples), len(names))
    return {str(n): table[:, k] for k, n in enumerate(names)}
