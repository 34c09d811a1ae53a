"""How people name bones: each habit is a function from what a bone is for to the name it gets."""

import re

import numpy as np

_BODY = (
    "hips",
    "spine",
    "neck",
    "head",
    "Shoulder",
    "UpperArm",
    "LowerArm",
    "Hand",
    "UpperLeg",
    "LowerLeg",
    "Foot",
    "Toes",
    "Eye",
    "jaw",
)
_TABLES = {
    "plain": "Hips Spine Neck Head Shoulder UpperArm LowerArm Hand UpperLeg LowerLeg Foot Toes Eye Jaw|Thumb Index Middle Ring Little",
    "short": "pelvis spn neck head clav uparm loarm hand upleg loleg foot toe eye jaw|thm idx mid rng pky",
    "shin": "hip back neck skull collar arm forearm wrist thigh shin ankle ball eye mandible|thumb index middle ring pinky",
    "anatomy": "pelvis vertebra cervical cranium clavicle humerus radius carpus femur tibia tarsus metatarsal eyeball mandible|pollex index medius annular minimus",
    "joint": "root waist neck head collar shoulder elbow wrist hip knee ankle ball eye jaw|thumb index middle ring pinky",
    "german": "Becken Wirbel Hals Kopf Schluesselbein Oberarm Unterarm Hand Oberschenkel Unterschenkel Fuss Zehen Auge Kiefer|Daumen Zeigefinger Mittelfinger Ringfinger Kleinfinger",
    "french": "bassin colonne cou tete clavicule bras avantbras main cuisse mollet pied orteils oeil machoire|pouce index majeur annulaire auriculaire",
    "spanish": "cadera columna cuello cabeza clavicula brazo antebrazo mano muslo pantorrilla pie dedosdelpie ojo mandibula|pulgar indice medio anular menique",
    "italian": "bacino colonna collo testa clavicola braccio avambraccio mano coscia polpaccio piede punta occhio mandibola|pollice indice medio anulare mignolo",
    "portuguese": "quadril coluna pescoco cabeca clavicula braco antebraco mao coxa canela pe ponta olho mandibula|polegar indicador medio anelar minimo",
    "japanese": "腰 脊椎 首 頭 鎖骨 上腕 前腕 手首 大腿 すね 足首 つま先 目 顎|親指 人差指 中指 薬指 小指",
    "chinese": "骨盆 脊柱 颈 头 锁骨 上臂 前臂 手 大腿 小腿 脚 脚趾 眼 下巴|拇指 食指 中指 无名指 小指",
    "russian": "таз позвоночник шея голова ключица плечо предплечье кисть бедро голень стопа носок глаз челюсть|большой указательный средний безымянный мизинец",
}  # fmt: skip
_SIDE_WORDS = {
    "german": ("links", "rechts"), "french": ("gauche", "droite"), "spanish": ("izq", "der"), "italian": ("sx", "dx"),
    "portuguese": ("esq", "dir"), "japanese": ("左", "右"), "chinese": ("左", "右"), "russian": ("лев", "прав"),
}  # fmt: skip
HABITS = (
    "plain", "camel", "prefixed", "namespace", "short", "shin", "anatomy", "joint", "sides last", "sides first", "numbered chains",
    "shouting", "dotted", "misspelt", "viewer", "german", "french", "spanish", "italian", "portuguese", "japanese", "chinese",
    "russian", "without sides", "numbers only", "nothing",
)  # fmt: skip


def named(names, habit, seed=0):
    """Names in a habit for bones named by what they are for ("leftUpperArm", "spine 2", "tail 3")."""
    rng = np.random.default_rng(seed)
    if habit == "numbers only":
        return [f"joint_{i:03d}" for i in range(len(names))]
    if habit == "nothing":
        return ["".join(rng.choice(list("qwzxvkjy"), 6)) for _ in names]
    out, seen = [], {}
    for name in names:
        made = _named(name, habit, rng)
        seen[made] = seen.get(made, 0) + 1
        out.append(made if seen[made] == 1 else f"{made}.{seen[made]:03d}")
    return out


def _named(name, habit, rng):
    side = "left" if name.startswith("left") else "right" if name.startswith("right") else ""
    core, number = re.match(r"(?:left|right)?\s*(.*?)(?:\s+(\d+))?$", name).groups()
    end = core.endswith(" end")
    core = core.removesuffix(" end")
    twist = " twist" in core or "twist" in core
    core = core.replace(" twist", "").strip()
    table = (
        habit
        if habit in _TABLES
        else {"numbered chains": "shin", "viewer": "shin", "sides last": "plain", "dotted": "shin"}.get(habit, "plain")
    )
    body, fingers = (part.split() for part in _TABLES[table].split("|"))
    word = core
    part = ""
    for k, finger in enumerate(("Thumb", "Index", "Middle", "Ring", "Little")):
        if finger in core:
            part = core.replace(finger, "")
            part = {
                "Metacarpal": "0" if finger != "Thumb" else "1",
                "Proximal": "1" if finger != "Thumb" else "2",
                "Intermediate": "2",
                "Distal": "3",
            }.get(part, "")
            word = fingers[k] + (" meta" if finger != "Thumb" and part == "0" else "")
            break
    else:
        for k, role in enumerate(_BODY):
            if core == role or core.lower() == role.lower():
                word = body[k]
                break
    if habit == "viewer" and side:
        side = "right" if side == "left" else "left"
    sides = dict(zip(("left", "right"), _SIDE_WORDS.get(habit, ("L", "R")), strict=True)).get(side, "")
    full = {"left": "Left", "right": "Right", "": ""}[side]
    tail = (
        (" twist" if twist else "")
        + (f" {part}" if part else "")
        + (f" {number}" if number else "")
        + (" end" if end else "")
    )
    if habit == "misspelt" and len(word) > 5:
        k = int(rng.integers(1, len(word) - 2))
        word = word[:k] + word[k + 1 :] if rng.random() < 0.5 else word[:k] + word[k + 1] + word[k] + word[k + 2 :]
    glue = (word + tail).replace(" ", "_")
    if habit == "camel":
        return "".join(w[:1].upper() + w[1:] for w in f"{full} {word}{tail}".split())
    if habit == "prefixed":
        return f"hero_rig_{glue}" + (f"_{sides}" if sides else "")
    if habit == "namespace":
        return f"crew|wick_01:{full}{word[:1].upper()}{glue[1:]}"
    if habit == "shouting":
        return (f"{full}_" if full else "") + glue.upper()
    if habit == "dotted":
        return glue.replace("_", ".") + (f".{sides.lower()}" if sides else "")
    if habit == "sides first":
        return (f"{sides.lower()}_" if sides else "") + glue
    if habit in ("japanese", "chinese", "russian"):
        return sides + glue
    if habit == "without sides":
        return glue
    return glue + (f"_{sides}" if sides else "")
