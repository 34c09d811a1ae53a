"""What the simulated stage knows and nobody else does: bodies, performances, how the rooms hang, who ran into a camera.

It lies in a file of its own, stage.json in the data folder (or OTREVO_STAGE), that only stand-ins and the demo touch:

    {"rooms": {"3": {"seed": 303, "cameras": 12, "knocks": []}}, "bodies": {"1": 21}, "performances": {"6": "lantern"}}

by the numbers of productions, performers and slates. What it does not hold follows from these numbers and, for a slate,
from the words of its title.
"""

import json
import os
import zlib
from pathlib import Path

from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_whole
from otrevo.core.props.prop import SHIPPED
from otrevo.core.sim.motions import MOTIONS
from otrevo.core.sim.rig import make_room

CAMERAS = 12
KNOCK = (0.3, 0.002)  # degrees and metres
ROOM_SEED, BODY_SEED = 300, 100
TURN_RAD = 0.3  # by which every take faces another way than the one before


def _path():
    return Path(os.environ.get("OTREVO_STAGE") or Path(os.environ["OTREVO_DATA"]) / "stage.json")


def _read():
    try:
        return json.loads(_path().read_text())
    except FileNotFoundError:
        return {}


def _write(kind, number, value):
    known = _read()
    known.setdefault(kind, {})[str(number)] = value
    write_whole(_path(), json.dumps(known, indent=1).encode())


def room_spec(production):
    """{"seed", "cameras", "knocks"} of a production's room."""
    usual = {"seed": ROOM_SEED + int(production), "cameras": CAMERAS, "knocks": []}
    return usual | _read().get("rooms", {}).get(str(production), {})


def room(production):
    """The Room of a production as it truly hangs by now."""
    spec = room_spec(production)
    return make_room(spec["seed"], spec["cameras"], [tuple(k) for k in spec["knocks"]])


def rig(production):
    """What the cameras of a production's room say of themselves: a `cameras/1` document, marked as simulated."""
    seed = room_spec(production)["seed"]
    return room(production).rig_document(seed) | {"simulated": True}


def build(production, seed, cameras=CAMERAS):
    """Build a production's room anew."""
    _write("rooms", production, {"seed": seed, "cameras": cameras, "knocks": []})


def hang(production, cameras):
    """Hang another number of cameras; whoever ran into one of the old ones is forgotten."""
    _write("rooms", production, room_spec(production) | {"cameras": cameras, "knocks": []})


def knock(production, camera):
    """Somebody runs into a camera. Raises InputError when there is no such camera. Returns the words for it."""
    spec = room_spec(production)
    if camera not in [c.name for c in room(production).cameras]:
        raise InputError(f"There is no camera {camera} in this room.")
    spec["knocks"] = [*spec["knocks"], [camera, *KNOCK, len(spec["knocks"]) + 1]]
    _write("rooms", production, spec)
    return f"Somebody ran into {camera}: {KNOCK[0]} degrees and {1000 * KNOCK[1]:.0f} mm."


def embody(performer, seed):
    """Give a performer a body."""
    _write("bodies", performer, seed)


def rehearse(slate, motion):
    """Say what is performed on a slate."""
    _write("performances", slate, motion)


def plan(take, rehearsed):
    """Note that a take of the demo is still to be recorded, and how; None when that has been done."""
    _write("planned", take, rehearsed)


def planned():
    """{take: how} of what is still to be recorded."""
    return {int(take): how for take, how in _read().get("planned", {}).items() if how is not None}


def body(performer):
    """The seed of a performer's body."""
    return _read().get("bodies", {}).get(str(performer), BODY_SEED + int(performer))


def motion(take):
    """What is performed in a take (see `performance`): as rehearsed, or by the slate's kind, props and title."""
    known = _read().get("performances", {}).get(str(take["slate"]))
    if known:
        return known
    if take.get("warm_up"):
        return "warm-up" if "optical" in take["performer"].get("kit", ["optical"]) else "suit warm-up"
    if "lantern" in take.get("props", ()):
        return "lantern"
    free = [m for m in MOTIONS if m not in ("warm-up", "suit warm-up", "lantern")]
    title = take.get("title", "").lower()
    named = [m for m in free if any(word in title for word in m.split())]
    usual = [m for m in free if m not in ("ladder", "fall")]  # those are performed where a title asks for them
    return named[0] if named else usual[zlib.crc32(title.encode()) % len(usual)]


def performance(take):
    """What core.sim.stage.performed takes to perform a take.

    take: {"slate": 6, "title", "number": 2, "warm_up", "props": [...], "performer": {"id": 1, "height_m": 1.68}}, and for
    rehearsals "seed", "facing_rad".
    """
    performer, number = take["performer"], int(take["number"])
    return {
        "motion": motion(take), "performer_seed": body(performer["id"]), "height_m": performer["height_m"],
        "seed": take.get("seed", 1000 + 37 * int(take["slate"]) + number),
        "facing_rad": take.get("facing_rad", TURN_RAD * (number % 7)),
    }  # fmt: skip


def props(take):
    """The Props in a take."""
    return [SHIPPED[name] for name in take.get("props", ())]
