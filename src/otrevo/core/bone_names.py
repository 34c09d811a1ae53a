"""What a bone's name says: which part of a body it is, on which side, and whether it is a bone that only helps.

Names come in every habit: with namespaces and prefixes, side marks at either end, in many languages and scripts, run
together, numbered, misspelt. A name is cut into words; each word is looked up as it is, then as several known words
run together, then as one that is nearly spelt so. Words that most bones of a skeleton share say nothing and are
dropped. What comes out are votes: a character's name never decides alone (see `core.characters.limbs`). What is worn on a body
has nothing but its name, until it moves.
"""

import re
import unicodedata
from collections import Counter
from dataclasses import dataclass
from difflib import SequenceMatcher
from functools import lru_cache

LONGEST_NAME = 200
SHARED_BY = 0.6  # a word in so many of all names is a prefix
LEAST_ALIKE = 0.82

# concept -> words, lower case without accents; a word may stand under several concepts
WORDS = {
    "hips": "hips pelvis pelv hip waist sacrum sacral huften becken hufte bassin hanches cadera caderas pelvica bacino anche quadril kosi koshi taz 腰 骨盆 センター 下半身 таз 골반 엉덩이 臀 hft basin lowerbody heup heupen hofter bekken",
    "spine": "spine spn back abdomen stomach belly torso lumbar wirbel wirbelsaule rucken bauch colonne dos columna espalda espina schiena colonna coluna torax sebone 脊 脊椎 脊柱 背骨 上半身 背 позвоночник спина 척추 등 trunk rumpf lende backbone vertebra tronco waist midriff taille ventre ryg rygg rug",
    "chest": "chest thorax ribcage ribs rib upperbody upperchest brust brustkorb poitrine cage pecho torace petto peito mune 胸 胸部 上半身2 грудь 가슴 sternum upperspine oberkorper borst bryst brost",
    "neck": "neck cervical hals nacken cou nuque cuello collo pescoco kubi 首 脖 脖子 颈 頸 шея 목 nek nakke",
    "head": "head cranium skull kopf schadel tete crane cabeza testa cabeca atama 头 頭 голова 머리 cranium hoofd hode huvud noggin",
    "clavicle": "clavicle clav collar collarbone schlusselbein clavicule clavicula clavicola sakotsu 锁骨 鎖骨 ключица 쇄골 scapula clavicula shoulderblade sleutelbeen",
    "shoulder": "shoulder shldr schulter epaule hombro spalla ombro kata 肩 плечо 어깨 shoulders skulder schouder axel",
    "arm": "arm bras brazo braccio braco ude 腕 рука 팔 arms",
    "upperarm": "upperarm uparm uarm humerus bicep biceps oberarm arrm hautbras 上腕 上臂 大臂 плечевая 상완 위팔 bicipite jouwan overarm bovenarm armupper upperlimb",
    "lowerarm": "lowerarm lowarm loarm forearm farm elbow radius ulna unterarm ellbogen ellenbogen avantbras coude antebrazo codo avambraccio gomito antebraco cotovelo hiji ひじ 肘 前腕 前臂 小臂 下臂 предплечье локоть 하완 팔꿈치 아래팔 underarm zenwan onderarm elleboog armlower albue",
    "hand": "hand wrist handgelenk main poignet mano muneca polso mao pulso tekubi te 手 手首 手腕  кисть запястье 손 손목 palm hnd carpus carpal håndled pols",
    "thumb": "thumb thm daumen pouce pulgar pollice polegar oyayubi 親指 拇指 大拇指 большой 엄지 pollex thmb duim tommel tumme finger0 f0",
    "index": "index idx zeigefinger pointer indice hitosashiyubi 人指 人差指 人差し指 食指 указательный 검지 indx indicador fore forefinger wijsvinger pekefinger",
    "middle": "middle mid mittelfinger majeur medio medius nakayubi 中指 средний 중지 mid medius middelvinger langfinger",
    "ring": "ring ringfinger annulaire anular anulare anelar rng annular medico kusuriyubi 薬指 无名指 無名指 безымянный 약지 ringvinger",
    "little": "little pinky pinkie kleinerfinger kleinfinger auriculaire menique mignolo minimo mindinho koyubi 小指 мизинец 새끼 소지 pnky pink small lillefinger kleine ohrfinger auricular minimus pky",
    "finger": "finger fingers doigt dedo dito yubi 指 палец 손가락 digit fngr vinger",
    "metacarpal": "metacarpal meta metacarpus handmittel mittelhand metacarpe 掌骨 中手 пясть carpometa knuckle metacarpale",
    "proximal": "proximal prox base first",
    "intermediate": "intermediate inter medial",
    "distal": "distal dist",
    "leg": "leg bein jambe pierna gamba perna ashi 脚 腿 足 нога 다리 been legs ben",
    "upperleg": "upperleg upleg uleg thigh femur oberschenkel cuisse muslo coscia coxa futomomo 太もも 大腿 上腿 бедро 허벅지 thig legupper dij lar hufte huftgelenk hip bovenbeen",
    "lowerleg": "lowerleg lowleg loleg shin calf knee tibia shank unterschenkel knie mollet genou pantorrilla rodilla polpaccio ginocchio canela joelho hiza sune ひざ 膝 小腿 下腿 すね голень колено 종아리 무릎 leglower kuit legg tibiale crus onderbeen kne",
    "foot": "foot ankle fuss knochel fussgelenk pied cheville pie tobillo piede caviglia pe tornozelo ashikubi 足首 脚踝 足 脚 стопа лодыжка щиколотка 발 발목 foots tarsus voet enkel fot feet",
    "toes": "toe toes ball zehe zehen ballen orteil orteils dedodelpie punta tsumasaki つま先 脚趾 脚尖 足先 носок пальцы 발가락 toebase football tip_toe teen ta artelho dita metatarsal phalanges",
    "eye": "eye eyes auge oeil ojo occhio olho me 目 眼 眼球 глаз 눈 eyeball oog oye",
    "jaw": "jaw kiefer machoire mandibula mandibola mandible unterkiefer ago 顎 下巴 челюсть 턱 chin mouth kaak",
    "twist": "twist roll tw twst torsion rot rollbone verdrehung candy 捩 捻 扭转 скрутка 트위스트 ねじり drehung",
    "ik": "ik effector pole target goal ctrl control fk driver ikh",
    "end": "end nub tip site endsite leaf ende fin terminal top 先 끝 конец endpoint eff dummyend null",
    "tail": "tail schwanz queue cola coda rabo 尾 хвост 꼬리 shippo staart",
    "hair": "hair haar cheveux pelo capelli cabelo kami 髪 头发 волосы 머리카락 ponytail braid bangs fringe zopf beard ahoge",
    "cloth": "skirt cloth cape coat dress rock jupe falda gonna saia スカート 裙 юбка 치마 belt strap scarf hood sleeve robe kilt ribbon mantel apron flap",
    "weapon": "weapon sword gun shield prop bag lantern lamp axe bow knife staff spear tool backpack hat helmet item holster attach socket waffe werkzeug holder mount lampe laterne",
    "helper": "helper aux corrective fix volume muscle deform adj jiggle breast bust boob glute butt brust_phys pec pectoral ear ears wing cheek brow lid tongue teeth nose lip eyelid eyebrow collider bulge support",
    "root": "root world origin armature master reference trajectory wurzel motion ground hierarchy scene main global cog",
    "upper": "upper up ober haut superior oben top 上 uppr верх 위 superiore hoch",
    "lower": "lower low lo unter bas inferior unten fore 下 lowr ниж 아래 inferiore avant",
}  # fmt: skip
SIDES = {
    "left": "left l lft lt links linke linker linkes gauche g izquierda izquierdo izq sinistra sinistro sx sin esquerda esquerdo esq hidari 左 лев левая левый левое лево 왼쪽 왼 좌 venstre vanster linker li",
    "right": "right r rgt rt rechts rechte rechter rechtes droite droit d derecha derecho der destra destro dx direita direito dir migi 右 прав правая правый правое право 오른쪽 오른 우 hoyre hoger rechter re",
}  # fmt: skip
# what a word means for something worn; sided ones get their side in front
_WORN = {
    "toes": "Toes", "foot": "Foot", "hand": "Hand", "lowerarm": "LowerArm", "upperarm": "UpperArm", "lowerleg": "LowerLeg",
    "upperleg": "UpperLeg", "clavicle": "Shoulder", "shoulder": "UpperArm", "arm": "UpperArm", "leg": "UpperLeg", "head": "head",
    "neck": "neck", "chest": "chest", "hips": "hips", "spine": "chest",
}  # fmt: skip
TRUNK = ("hips", "chest", "head", "neck")
_CONCEPTS, _SIDE_OF = {}, {}
for _concept, _words in WORDS.items():
    for _word in _words.split():
        _CONCEPTS.setdefault(_word, []).append(_concept)
for _side, _words in SIDES.items():
    for _word in _words.split():
        _SIDE_OF[_word] = _side
_KNOWN = set(_CONCEPTS) | {w for w in _SIDE_OF if len(w) > 2 or not w.isascii()}


def _letters(word):
    """The letters of a word as bits."""
    bits = 0
    for letter in word:
        bits |= 1 << ord(letter)
    return bits


_LONG = [(w, _letters(w)) for w in sorted(_KNOWN, key=lambda w: (len(w), w)) if w.isascii() and len(w) > 4]
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])|(?<=[^\W\d_])(?=\d)|(?<=\d)(?=[^\W\d_])")
_BREAKS = re.compile(r"[\W_]+")


@dataclass(frozen=True)
class Said:
    """What one name says: concepts it names, side ("left", "right" or ""), numbers in it, and its words."""

    concepts: frozenset = frozenset()
    side: str = ""
    numbers: tuple[int, ...] = ()
    words: tuple[str, ...] = ()

    def names(self, *concepts):
        """Whether it names one of these."""
        return not self.concepts.isdisjoint(concepts)


def read_names(names):
    """[Said] of all bone names of one skeleton; words that most of them share are left out."""
    cut = [_cut(n) for n in names]
    counts = Counter(w for words in cut for w in set(words))
    enough = max(4, SHARED_BY * len(names))
    shared = {w for w, n in counts.items() if n >= enough}
    return [_said([w for w in words if w not in shared]) for words in cut]


def worn_on(names):
    """{name: bone} of what is worn on one body, suit sensors or rigid bodies, as far as names say; several may say the same bone."""
    words = {}
    for name, said in zip(names, read_names(names), strict=True):
        if said.names("weapon", "cloth", "tail", "hair"):
            continue
        word = next((w for w in _WORN if said.names(w) and (said.side or _WORN[w] in TRUNK)), None)
        if word:
            words[name] = word, "" if _WORN[word] in TRUNK else said.side
    beside = {side: {w for w, s in words.values() if s == side} for side in ("", "left", "right")}
    return {
        name: side + _meant(word, beside[side])
        for name, (word, side) in words.items()
        if not (word == "spine" and "chest" in beside[side])
    }


def _meant(word, beside):
    """The bone, without its side, that a word means where there are others `beside` it: a leg below an upper leg is its shin."""
    if word == "shoulder" and beside & {"upperarm", "arm"} and "clavicle" not in beside:
        return "Shoulder"
    for part in ("arm", "leg"):
        if word == part and f"upper{part}" in beside and f"lower{part}" not in beside:
            return _WORN[f"lower{part}"]
    return _WORN[word]


def _cut(name):
    """The words of a name, lower case without accents, namespaces left out."""
    name = re.split(r"[:|]", name[-LONGEST_NAME:])[-1]
    plain = unicodedata.normalize("NFKC", name)
    if all(ord(c) < 0x250 for c in plain):
        plain = "".join(c for c in unicodedata.normalize("NFKD", plain) if not unicodedata.combining(c))
    plain = plain.replace("ß", "ss").replace("ё", "е")
    words = [w.lower() for part in _BREAKS.split(plain) for w in _CAMEL.split(part) if w]
    return [w for word in words for w in _unjoined(word)]


@lru_cache(maxsize=4096)
def _unjoined(word):
    """A word as known words run together ("leftforearm"), or as it is."""
    if word in _KNOWN or word in _SIDE_OF or word.isdigit():
        return (word,)
    best = _split(word)
    return best if best else (word,)


@lru_cache(maxsize=16384)
def _split(word):
    """The fewest known words that spell `word`, or None. Side marks of one letter stand at the ends only."""
    if word in _KNOWN:
        return (word,)
    best = None
    for n in range(len(word) - 1, 0, -1):
        head, rest = word[:n], word[n:]
        if head in _KNOWN and (len(head) > 2 or not head.isascii()):
            tail = (rest,) if rest in ("l", "r") else _split(rest)
            if tail and (best is None or len(tail) + 1 < len(best)):
                best = (head, *tail)
    if best is None and len(word) > 4 and word[0] in "lr" and (tail := _split(word[1:])) and len(tail) == 1:
        best = (word[0], *tail)
    return best


@lru_cache(maxsize=4096)
def _nearly(word):
    """Concepts of the known word that `word` is nearly spelt like."""
    if len(word) < 5 or not word.isascii():
        return ()
    best, alike = None, LEAST_ALIKE
    match = SequenceMatcher(b=word)  # which is prepared once
    letters = _letters(word)
    for known, theirs in _LONG:
        if abs(len(known) - len(word)) > 2:
            continue
        common = len(word) - (letters & ~theirs).bit_count()  # or fewer; each counts on both sides
        if 2 * common > alike * (len(known) + len(word)):
            match.set_seq1(known)
            if match.quick_ratio() > alike and (ratio := match.ratio()) > alike:
                best, alike = known, ratio
    return () if best is None else (best,)


def _said(words):
    concepts, side, numbers = set(), "", []
    for i, word in enumerate(words):
        if word.isdigit():
            numbers.append(int(word[:6]))
            continue
        if word in _SIDE_OF and (len(word) > 2 or not side):
            if len(word) > 1 or i in (0, len(words) - 1) or not _CONCEPTS.get(word):
                side = _SIDE_OF[word]
            if word not in _CONCEPTS:
                continue
        for known in (word,) if word in _CONCEPTS else _nearly(word):
            concepts.update(_CONCEPTS.get(known, ()))
            side = _SIDE_OF.get(known, side)
    for part in ("arm", "leg"):  # "upper arm", "up leg", "fore arm"
        if part in concepts and {"upper", "lower"} & concepts:
            concepts |= {x + part for x in ("upper", "lower") if x in concepts}
            concepts.discard(part)
    if "lowerarm" in concepts or "arm" in concepts:
        concepts.discard("index")  # "fore arm"
    if {"ring", "little", "middle", "index", "thumb"} & concepts:
        concepts -= {"hand", "arm", "foot", "upperleg", "spine", "toes"}
    return Said(frozenset(concepts), side, tuple(numbers), tuple(words))
