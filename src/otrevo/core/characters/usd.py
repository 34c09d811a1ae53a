"""Characters in USD (usda, usdc, usdz): a UsdSkel skeleton, its skin and its blend shapes, read with usd-core."""

from pathlib import Path

import numpy as np

from otrevo.core.characters.file_skeleton import MOST_BYTES, FileSkeleton, checked, ordered, unlike
from otrevo.core.errors import InputError


def read_usd(path):
    """The FileSkeleton of a USD file. Raises InputError in one sentence for what cannot be understood."""
    from pxr import UsdGeom, UsdSkel  # takes a third of a second, and only these files need it

    path, notes = Path(path), []
    stage = opened(path)
    skeleton = largest_skeleton(stage, notes)
    joints = [str(j) for j in skeleton.GetJointsAttr().Get()]
    topology = UsdSkel.Topology(skeleton.GetJointsAttr().Get())
    parents = np.array(topology.GetParentIndices(), dtype=np.int64)
    to_file = _matrices([UsdGeom.XformCache().GetLocalToWorldTransform(skeleton.GetPrim())])[0]
    bind, rest = skeleton.GetBindTransformsAttr().Get(), skeleton.GetRestTransformsAttr().Get()
    if bind is not None and len(bind) == len(joints):
        matrices, rest_from = to_file @ _matrices(bind), "bind"
    elif rest is not None and len(rest) == len(joints):
        matrices, rest_from = _matrices(rest), "zero"
        for b in ordered(parents, path.name):
            matrices[b] = (matrices[parents[b]] if parents[b] >= 0 else to_file) @ matrices[b]
    else:
        raise InputError(f"{path.name}: its {len(joints)} bones have no rest pose; expected bind or rest transforms.")
    order = ordered(parents, path.name)
    new = np.empty(len(order), dtype=np.int64)
    new[order] = np.arange(len(order))
    names = [joints[i].rsplit("/", 1)[-1] for i in order]
    parents = np.array([new[parents[i]] if parents[i] >= 0 else -1 for i in order], dtype=np.int64)
    matrices = matrices[order]
    skin, owner, held, shapes = _skin(stage, skeleton, joints, new, to_file)
    metres = float(UsdGeom.GetStageMetersPerUnit(stage)) if UsdGeom.StageHasAuthoredMetersPerUnit(stage) else None
    up = "+" + str(UsdGeom.GetStageUpAxis(stage)) if stage.HasAuthoredMetadata("upAxis") else ""
    count = len(names)
    return checked(
        FileSkeleton(path.name, unlike(names), parents, matrices, np.full((count, 3), np.nan), held, skin, owner, shapes,
                     metres, up, "", {}, rest_from, np.array(order), tuple(notes))
    )  # fmt: skip


def opened(path):
    """The stage of a USD file. Raises InputError for what cannot be opened."""
    from pxr import Tf, Usd

    path = Path(path)
    if path.stat().st_size > MOST_BYTES:
        raise InputError(f"{path.name}: larger than {MOST_BYTES // 2**20} MB; expected a character, not a scene.")
    try:
        stage = Usd.Stage.Open(str(path))
    except Tf.ErrorException:
        stage = None
    if stage is None:
        raise InputError(f"{path.name}: it cannot be read as USD; expected usda, usdc or usdz.")
    return stage


def largest_skeleton(stage, notes=None):
    """The UsdSkel.Skeleton with the most joints; `notes` are told of others. Raises InputError when there is none."""
    from pxr import UsdSkel

    skeletons = [UsdSkel.Skeleton(p) for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton)]
    skeletons = [s for s in skeletons if s.GetJointsAttr().Get()]
    if not skeletons:
        name = Path(stage.GetRootLayer().identifier).name
        raise InputError(f"{name}: it holds no skeleton; expected a character with bones.")
    if len(skeletons) > 1 and notes is not None:
        notes.append(f"it holds {len(skeletons)} skeletons; the largest is read")
    return max(skeletons, key=lambda s: len(s.GetJointsAttr().Get()))


def _matrices(rows):
    """(N, 4, 4) column-vector matrices of USD's row-vector ones."""
    return np.array([np.array(m) for m in rows], dtype=float).reshape(-1, 4, 4).transpose(0, 2, 1)


def _skin(stage, skeleton, joints, new, to_file):
    """(points at rest (V, 3), the bone that holds each most (V,), how much hangs on each bone (B,), shape names)."""
    from pxr import UsdGeom, UsdSkel

    points, owners, held, shapes = [], [], np.zeros(len(joints)), {}
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Mesh):
            continue
        binding = UsdSkel.BindingAPI(prim)
        shapes |= dict.fromkeys(str(n) for n in binding.GetBlendShapesAttr().Get() or [])
        index, weight = binding.GetJointIndicesPrimvar(), binding.GetJointWeightsPrimvar()
        x = UsdGeom.Mesh(prim).GetPointsAttr().Get()
        j, w = index.Get() if index else None, weight.Get() if weight else None
        if x is None or j is None or w is None or len(j) != len(w) or not len(x):
            continue
        own = [str(n) for n in binding.GetJointsAttr().Get() or joints]
        table = np.array([new[joints.index(n)] if n in joints else -1 for n in own])
        width = max(1, int(index.GetElementSize()))
        j, w = np.array(j).reshape(-1, width), np.array(w, dtype=float).reshape(-1, width)
        if len(j) == 1:  # the whole mesh hangs on one bone
            j, w = np.repeat(j, len(x), axis=0), np.repeat(w, len(x), axis=0)
        if len(j) != len(x) or j.min() < 0 or j.max() >= len(table):
            raise InputError(f"{Path(stage.GetRootLayer().identifier).name}: the skin '{prim.GetName()}' names bones that its skeleton does not have.")  # fmt: skip
        bind = binding.GetGeomBindTransformAttr().Get()
        into = to_file @ (_matrices([bind])[0] if bind is not None else np.eye(4))
        x = np.array(x, dtype=float)
        owner = table[j[np.arange(len(j)), np.argmax(w, axis=1)]]
        good = (owner >= 0) & np.isfinite(x).all(axis=1)
        points.append((x @ into[:3, :3].T + into[:3, 3])[good])
        owners.append(owner[good])
        inside = table[j] >= 0
        held += np.bincount(table[j][inside], w[inside], len(held))
    if not points:
        return np.zeros((0, 3)), np.zeros(0, dtype=np.int64), np.full(len(joints), np.nan), tuple(shapes)
    return np.concatenate(points), np.concatenate(owners), held, tuple(shapes)
