"""Stand-in for a room's cameras: a process that sends camera packets in real time over a local socket.

`python -m otrevo.standins.cameras PORT`. A client connects, sends one line of JSON for every scene it wants to see, and
receives the packets of all cameras (core.formats.camera_packets):

    {"otrevo": "scene/1", "production": 3, "rate": "120/1", "scene": "sweep", "wand": {...}}

Scenes are those of core.sim.scenes, and "take" with `take`, what standins.world.performance takes. With "zero_us" the
first frame has that timecode and was due "since_s" seconds before the request came (0 where it is not said): what was due before the
request is not sent again. With "stand_by" nothing is sent yet.

{"otrevo": "stage/1", "production": 3, "do": "who" | "knock" | "hang", ...} is answered with a line of JSON: the
`cameras/1` document of the room, after somebody ran into "camera" or so many "cameras" were hung.
"""

import asyncio
import json
import sys
import time
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from fractions import Fraction
from functools import lru_cache
from itertools import count

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import encode_packet
from otrevo.core.optics.wand import wand_from_document
from otrevo.core.sim.rig import Faults, film
from otrevo.core.sim.scenes import SCENES, scene
from otrevo.core.sim.stage import before_cameras
from otrevo.standins import serving, world

LONGEST_S = 300.0
PIECE_FRAMES = 48
HIDDEN = 0.06  # share of sightings that something covers


@dataclass
class Showing:
    """What goes on before the cameras: positions (T, K, 3), bodies in the way, and how it is filmed. A scene is over after its
    last frame; after a performance, which has bodies, everybody holds the last pose until somebody cuts."""

    room: object
    rate: Fraction
    positions: np.ndarray
    bodies: tuple | None
    seed: int
    faults: Faults

    def __post_init__(self):
        if self.bodies is None:
            return
        seen = np.isfinite(self.positions[..., 0])
        latest = len(seen) - 1 - seen[::-1].argmax(axis=0)  # what is covered at the very end is not so for good
        self.last_positions = self.positions[latest, np.arange(len(latest))]

    def packets(self, number, zero_us):
        """The packets of one piece, a list for every frame; none when the scene is over."""
        first = number * PIECE_FRAMES
        frames = np.arange(first, first + PIECE_FRAMES)
        bodies, within = None, frames < len(self.positions)
        if self.bodies is None:
            if not within.any():
                return []
            positions = self.positions[frames[within]]
        else:
            frames = np.minimum(frames, len(self.positions) - 1)
            positions = np.where(within[:, None, None], self.positions[frames], self.last_positions)
            bodies = (self.bodies[0][frames], self.bodies[1])
        seed, faults = self.seed * 1009 + number, replace(self.faults, lost_frames=0.0)
        seen, _ = film(self.room.cameras, positions, seed, faults, bodies, self.room.lamps)
        # a picture with nothing in it is sent like any other; one that the last camera drops is not
        dropped = np.random.default_rng([seed, 7]).random(len(positions)) < self.faults.lost_frames
        cameras, frames = len(self.room.cameras), []
        data = np.column_stack([seen.xy, seen.radius])
        edges = np.searchsorted(seen.frame * cameras + seen.camera, np.arange(len(positions) * cameras + 1))
        for f in range(len(positions)):
            at = zero_us + round((first + f) / self.rate * 1_000_000)
            one = []
            for c, camera in enumerate(self.room.cameras):
                a, b = edges[f * cameras + c], edges[f * cameras + c + 1]
                if c < cameras - 1 or not dropped[f]:
                    one.append(encode_packet(camera.name, first + f, at, data[a:b]))
            frames.append(b"".join(one))
        return frames


@lru_cache(maxsize=2)
def _performance(document):
    """Marker places and bodies of a performance; whoever stands by takes their place before the roll."""
    take = json.loads(document)
    hidden = take.get("hidden", HIDDEN)
    return before_cameras(**world.performance(take), hidden=hidden, props=world.props(take))


def show(request):
    """What a client's request makes go on before the cameras. Raises InputError for what cannot be shown."""
    if request.get("otrevo") != "scene/1":
        raise InputError("expected a scene/1 request")
    room, rate = world.room(request["production"]), Fraction(request["rate"])
    if request["scene"] == "take":
        take = request["take"]
        positions, bodies = _performance(json.dumps(take, sort_keys=True))
        if "optical" not in take["performer"].get("kit", ["optical"]):
            positions = np.full_like(positions, np.nan)  # nobody wears a marker
        return Showing(
            room, rate, positions, bodies, world.performance(take)["seed"], Faults(ghosts=0.02, lost_frames=0.01)
        )
    seed = int(request.get("seed") or time.time() % 100_000)
    if request["scene"] not in SCENES:
        raise InputError(f"no scene '{request['scene']}'; expected take or one of {', '.join(SCENES)}")
    wand = wand_from_document(request["wand"]) if request.get("wand") else None
    positions = scene(request["scene"], seed, LONGEST_S, float(rate), wand)
    return Showing(room, rate, positions, None, seed, Faults(lost_frames=0.01))


def packets_at_once(request, seconds):
    """All that the cameras would have sent of a scene in so many seconds, without waiting for it."""
    showing = show(request)
    frames, out = round(seconds * showing.rate), []
    while len(out) < frames and (piece := showing.packets(len(out) // PIECE_FRAMES, request.get("zero_us") or 0)):
        out += piece
    return b"".join(out[:frames])


def _stage(request):
    """The answer to a stage/1 request. Raises InputError."""
    production, words = request["production"], ""
    if request["do"] == "knock":
        words = world.knock(production, request["camera"])
    elif request["do"] == "hang":
        world.hang(production, int(request["cameras"]))
    return {"rig": world.rig(production), "words": words}


async def _play(showing, writer, asked_at, zero_us=None, since_s=0.0):
    """Film and send in real time, a little ahead of the clock in filming and never in sending.

    zero_us: the timecode of the first frame, which then was since_s before the scene was asked for: what took time is caught up.
    """
    began, first = asked_at - since_s, int(since_s * showing.rate)
    if zero_us is None:
        now = datetime.now(UTC)
        midnight = now.replace(hour=0, minute=0, second=0, microsecond=0)
        zero_us, began = int((now - midnight).total_seconds() * 1_000_000), None
    ahead = asyncio.create_task(asyncio.to_thread(showing.packets, first // PIECE_FRAMES, zero_us))
    for number in count(first // PIECE_FRAMES):
        frames = await ahead
        if not frames:
            break
        if began is None:
            began = time.monotonic()
        ahead = asyncio.create_task(asyncio.to_thread(showing.packets, number + 1, zero_us))
        for f, data in enumerate(frames):
            if number * PIECE_FRAMES + f < first:
                continue
            due = began + float((number * PIECE_FRAMES + f) / showing.rate)
            wait = due - time.monotonic()
            if wait > 0.002:
                await asyncio.sleep(wait)
            writer.write(data)
            if f % 4 == 0:
                await writer.drain()
    writer.close()  # the scene is over


async def _serve(reader, writer):
    playing = None
    try:
        while line := await reader.readline():
            if playing:
                playing.cancel()
            asked_at, request = time.monotonic(), json.loads(line)
            if not serving.may_ask(request):
                break
            try:
                if request.get("otrevo") == "stage/1":
                    writer.write(json.dumps(_stage(request)).encode() + b"\n")
                    continue
                showing = await asyncio.to_thread(show, request)
            except (InputError, ValueError, KeyError, TypeError) as error:
                if request.get("otrevo") == "stage/1":
                    writer.write(json.dumps({"error": str(error)}).encode() + b"\n")
                print(f"cameras: request refused: {error}", file=sys.stderr, flush=True)
                break
            if request.get("stand_by"):
                await asyncio.to_thread(showing.packets, 0, 0)
                continue
            playing = asyncio.create_task(
                _play(showing, writer, asked_at, request.get("zero_us"), float(request.get("since_s", 0.0)))
            )
    except (ConnectionError, ValueError, asyncio.CancelledError):
        pass  # nobody listens any more
    finally:
        if playing:
            playing.cancel()
        writer.close()


if __name__ == "__main__":
    serving.run("cameras", _serve)
