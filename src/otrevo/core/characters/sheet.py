"""A map sheet: which performer bone moves which character bones, and how the rest poses are matched. `map/1`."""

from dataclasses import dataclass, field, replace

import numpy as np

from otrevo.core.body.skeleton import BONE_NAMES
from otrevo.core.characters.mapping import EXTRA, propose
from otrevo.core.characters.rest_pose import RestTurn, direction, match_rest_pose
from otrevo.core.errors import InputError

EFFECTORS = (
    "hips",
    "leftHand",
    "rightHand",
    "leftFoot",
    "rightFoot",
    "leftElbow",
    "rightElbow",
    "leftKnee",
    "rightKnee",
)
CHAINS = ("spine", "chest", "upperChest", "neck")  # whose rotation is shared along their bones
NAME_LIMIT = 200
MIRROR_SHARE = 0.04  # of the height: how far a bone may lie from where its mirror is looked for


@dataclass(frozen=True)
class SheetPair:
    """targets: the character's bones by name, parent before child; confidence 0 to 1; doubt: what disagrees, or "".

    shares: for a chain of the trunk or the neck, how far each of its bones has turned, from 0, as the bone before the chain, to 1, as the last
    of it; empty for by their number.
    """

    bone: str
    targets: tuple[str, ...]
    confidence: float = 1.0
    doubt: str = ""
    shares: tuple[float, ...] = ()


@dataclass(frozen=True)
class MapSheet:
    """pairs by our bone; helpers: {twist bone: the bone it twists for}; rest: {our bone: RestTurn}; unmapped: names.

    limb_direction: {our bone: unit vector (3,) in which the character's limb points at rest}, where something tells.
    effectors: {effector: the name of its track, or of the character's bone that it moves}; pairs may be empty where there are any.
    """

    character: str
    pairs: dict
    helpers: dict
    rest: dict
    unmapped: tuple[str, ...]
    limb_direction: dict
    effectors: dict = field(default_factory=dict)

    def bones(self):
        """Our mapped bones in order, each of the character's bones once: the first of ours stands for those that share one."""
        first = {p.targets[0]: bone for bone, p in reversed(self.pairs.items()) if bone in BONE_NAMES}
        return [bone for bone in BONE_NAMES if bone in first.values()]

    def document(self):
        """The `map/1` document."""
        return {
            "otrevo": "map/1", "character": self.character,
            "pairs": [
                {"bone": p.bone, "target": list(p.targets), "confidence": round(p.confidence, 3), "doubt": p.doubt}
                | ({"shares": list(p.shares)} if p.shares else {})
                for p in self.pairs.values()
            ],
            "helpers": [{"bone": bone, "of": of} for bone, of in self.helpers.items()],
            "unmapped": list(self.unmapped),
            "rest_pose": [
                {"bone": self.pairs[bone].targets[0], "degrees": round(turn.degrees, 3),
                 "rotation_xyzw": [round(float(v), 9) + 0.0 for v in turn.rotation], "seen": turn.seen}
                | ({"by_hand": True} if turn.by_hand else {})
                for bone, turn in self.rest.items()
            ],
        } | ({"effectors": [{"effector": e, "target": n} for e, n in self.effectors.items()]} if self.effectors else {})  # fmt: skip


def propose_sheet(character, proposal=None):
    """The MapSheet proposed for a Character. Raises InputError when it is no two-legged body."""
    proposal = proposal or propose(character.as_file())
    names = character.names
    pairs = {
        bone: SheetPair(bone, tuple(names[t] for t in p.targets), p.confidence, p.doubt)
        for bone, p in sorted(proposal.pairs.items(), key=lambda i: _rank(i[0]))
    }
    helpers = {names[b]: names[of] for b, of in proposal.helpers.items()}
    return _with_rest(character, pairs, helpers)


def _rank(bone):
    return BONE_NAMES.index(bone) if bone in BONE_NAMES else len(BONE_NAMES) + EXTRA.index(bone)


def _with_rest(character, pairs, helpers, given=None):
    numbers = {bone: [character.index(t) for t in p.targets] for bone, p in pairs.items()}
    rest = match_rest_pose(character.positions, numbers, character.ends)
    if given:
        rest |= {bone: given[bone] for bone in rest if bone in given}
    first = {bone: character.positions[n[0]] for bone, n in numbers.items()}
    points = {bone: direction(bone, first, numbers, character.ends) for bone in numbers}
    used = {t for p in pairs.values() for t in p.targets} | set(helpers)
    return MapSheet(
        character.name,
        pairs,
        helpers,
        rest,
        tuple(n for n in character.names if n not in used),
        {b: v for b, v in points.items() if v is not None},
    )


def sheet_from(document, character, where):
    """The MapSheet of a `map/1` document for a Character. Rest rotations in it lead over the computed ones.

    Raises InputError naming the place in it.
    """
    rows = document.get("pairs")
    if not isinstance(rows, list):
        raise InputError(f"{where}: pairs: expected a list of bones and targets.")
    pairs, taken = {}, {}
    for i, row in enumerate(rows):
        bone = row.get("bone") if isinstance(row, dict) else None
        targets = row.get("target") if isinstance(row, dict) else None
        if bone not in BONE_NAMES and bone not in EXTRA:
            raise InputError(
                f"{where}: pairs[{i}]: '{bone}' is not one of a performer's bones; expected a VRM bone such as hips."
            )
        if bone in pairs:
            raise InputError(f"{where}: pairs[{i}]: {bone} is mapped twice.")
        if not isinstance(targets, list) or not all(isinstance(t, str) for t in targets):
            raise InputError(f"{where}: pairs[{i}].target: expected a list of bone names.")
        missing = [t for t in targets if t not in character.names]
        if missing:
            raise InputError(f"{where}: pairs[{i}]: the character has no bone '{missing[0][:80]}'.")
        if not targets:
            continue
        for t in targets:
            other = taken.setdefault(t, bone)
            if other != bone and not {other, bone} <= {"spine", "chest", "upperChest", "hips", "neck"}:
                raise InputError(
                    f"{where}: pairs[{i}]: '{t[:80]}' is driven by {other} and by {bone}; expected one of them."
                )
        sure, shares = (
            _share(row.get("confidence", 1.0)),
            _shares(row.get("shares"), bone, targets, f"{where}: pairs[{i}]"),
        )
        pairs[bone] = SheetPair(bone, tuple(targets), sure, str(row.get("doubt") or ""), shares)
    effectors = _effectors(
        document, {*taken, *(r.get("bone") for r in document.get("helpers") or [] if isinstance(r, dict))}, where
    )
    if "hips" not in pairs and (pairs or not effectors):
        raise InputError(f"{where}: pairs: hips is not mapped; without it nothing carries the body.")
    helpers = {
        r["bone"]: r["of"] for r in document.get("helpers") or []
        if isinstance(r, dict) and r.get("bone") in character.names and r.get("of") in character.names
    }  # fmt: skip
    first = {p.targets[0]: bone for bone, p in reversed(pairs.items())}
    given = {}
    for i, row in enumerate(document.get("rest_pose") or []):
        rotation = row.get("rotation_xyzw") if isinstance(row, dict) else None
        if rotation is None or row.get("bone") not in first:
            continue
        rotation = np.array(rotation, dtype=float)
        if rotation.shape != (4,) or not np.isfinite(rotation).all() or abs(np.linalg.norm(rotation) - 1) > 0.01:
            raise InputError(f"{where}: rest_pose[{i}].rotation_xyzw: expected a unit quaternion.")
        given[first[row["bone"]]] = RestTurn(
            float(row.get("degrees") or 0.0),
            rotation / np.linalg.norm(rotation),
            bool(row.get("seen", True)),
            row.get("by_hand") is True,
        )
    sheet = _with_rest(character, dict(sorted(pairs.items(), key=lambda p: _rank(p[0]))), helpers, given)
    return replace(sheet, effectors=effectors)


def _effectors(document, taken, where):
    """{effector: name} of a `map/1` document; taken: bones that somebody drives already."""
    out = {}
    rows = document.get("effectors") or []
    if not isinstance(rows, list):
        raise InputError(f"{where}: effectors: expected a list of effectors and targets.")
    for i, row in enumerate(rows):
        effector, name = (row.get("effector"), row.get("target")) if isinstance(row, dict) else (None, None)
        if effector not in EFFECTORS:
            raise InputError(f"{where}: effectors[{i}]: '{effector}' is none; expected one of {', '.join(EFFECTORS)}.")
        if not isinstance(name, str) or not name.strip() or len(name) > NAME_LIMIT or not name.isprintable():
            raise InputError(f"{where}: effectors[{i}].target: expected a name of 1 to {NAME_LIMIT} characters.")
        if effector in out or name in out.values():
            raise InputError(f"{where}: effectors[{i}]: {effector} or '{name}' is there twice.")
        if name in taken:
            raise InputError(
                f"{where}: effectors[{i}]: '{name}' is moved as a joint already; expected a control, or a new name."
            )
        out[effector] = name
    return out


def _shares(given, bone, targets, where):
    """The shares of a chain, () where none are given. Raises InputError for what are none."""
    if not given:
        return ()
    fine = isinstance(given, list) and all(isinstance(v, (int, float)) and 0 <= v <= 1 for v in given)
    if bone not in CHAINS or not fine or len(given) != len(targets):
        raise InputError(
            f"{where}.shares: expected a number from 0 to 1 for each target of a chain of the trunk or the neck."
        )
    if any(b < a for a, b in zip(given, given[1:], strict=False)):
        raise InputError(f"{where}.shares: {bone} turns back along its chain; expected shares that do not fall.")
    return tuple(float(v) for v in given)


def _share(value):
    return float(np.clip(value, 0, 1)) if isinstance(value, (int, float)) and np.isfinite(value) else 1.0


def mirrored(sheet, character, side="left"):
    """The pairs of a MapSheet in which one side's bones move what mirrors their targets: [(bone, [targets])].

    side: the one that leads, "left" or "right". The mirror of a target is the bone that at rest lies nearest to where the
    character's middle plane throws it. A target without one, within MIRROR_SHARE of the height, is left out.
    """
    at, other = character.positions, "right" if side == "left" else "left"
    middle = float(
        np.mean([at[character.index(sheet.pairs[b].targets[0]), 0] for b in ("hips", "head") if b in sheet.pairs])
    )
    limit, out = MIRROR_SHARE * character.height_m, []
    for bone, pair in sheet.pairs.items():
        if not bone.startswith(side):
            continue
        targets = []
        for target in pair.targets:
            thrown = at[character.index(target)] * [-1, 1, 1] + [2 * middle, 0, 0]
            away = np.linalg.norm(at - thrown, axis=1)
            if away.min() < limit:
                near = [character.names[i] for i in np.flatnonzero(away < away.min() + 1e-6)]
                targets.append(next((n for n in near if n != target), near[0]))
        out.append((other + bone.removeprefix(side), targets))
    return out
