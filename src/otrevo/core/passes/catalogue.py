"""All passes, of a take and of a room, in working order. A new one is a file that declares it and a line in one of the lists."""

from otrevo.core.errors import InputError
from otrevo.core.passes import (
    find_blinds,
    label,
    level,
    line_up,
    place_camera,
    rebuild,
    retarget,
    solve,
    solve_cameras,
    warm_up,
)

PASSES = (
    rebuild.PASS,
    line_up.PASS,
    warm_up.PASS,
    label.PASS,
    solve.PASS,
    retarget.PASS,
)

ROOM_PASSES = (
    find_blinds.PASS,
    solve_cameras.PASS,
    level.PASS,
    place_camera.PASS,
)


def pass_named(name, among=PASSES):
    """The Pass of that name. Raises InputError naming those there are."""
    for one in among:
        if one.name == name:
            return one
    raise InputError(f"There is no pass '{name}'; expected one of {', '.join(p.name for p in among)}.")


def passes_of(streams, is_warm_up, is_played=False):
    """The passes that a take goes through, in order, by the names of its recorded streams.

    is_played: somebody in it plays a character; warm-ups are seen on characters in Cast, whenever a map changes.
    """
    return tuple(
        p for p in PASSES
        if (not p.streams or set(p.streams) & set(streams)) and (is_warm_up or not p.warm_up)
        and (p.about != "character" or (is_played and not is_warm_up))
    )  # fmt: skip


def from_there_on(passes, name):
    """`name` and every later pass that needs it, or needs one that does. Raises InputError when it is none of them."""
    if name not in [p.name for p in passes]:
        raise InputError(f"There is no pass '{name}' for this take; expected {', '.join(p.name for p in passes)}.")
    stale, out = set(), []
    for p in passes:
        if p.name == name or stale & set(p.needs):
            stale.add(p.name)
            if p.warm_up:
                stale.add("performer")
            out.append(p)
    return tuple(out)
