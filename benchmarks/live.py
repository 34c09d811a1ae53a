"""The live path as the recorder has it: packets over a socket from the cameras' process, frames, points and trust."""

import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from fractions import Fraction

import numpy as np

from otrevo.core.formats.camera_packets import PacketReader
from otrevo.core.optics.rebuild import rebuild
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.sim.motions import MOTIONS
from otrevo.core.sim.rig import film, make_room
from otrevo.server.cluster import free_port
from otrevo.server.recorder import session as live
from otrevo.server.recorder.journal import Journal
from otrevo.standins import world

STEP_S, TAKE_S = 0.02, 60.0  # whoever has performed stands there until the cut
MINUTES = float(os.environ.get("OTREVO_LIVE_MINUTES", 10))


def ten_minutes(seeds):
    """Takes of all motions one after the other, in real time, for MINUTES: frames lost by us and the time of each frame."""
    port = free_port(8700)
    folder = tempfile.TemporaryDirectory()
    os.environ["OTREVO_STAGE"] = f"{folder.name}/stage.json"
    cameras = subprocess.Popen([sys.executable, "-m", "otrevo.standins.cameras", str(port)])
    times, late, frames, behind = [], 0, 0, []
    rebuild_window = live.rebuild_window
    room = make_room(1, 4)
    seen, _ = film(room.cameras, np.ones((8, 3, 3)), 1)
    rebuild(seen, room.cameras, Fraction(120))  # compiled before anything is timed

    def timed(known, groups, first, last, *rest):
        began = time.perf_counter()
        out = rebuild_window(known, groups, first, last, *rest)
        times.append((1000 * (time.perf_counter() - began) / (last - first), last - first))
        return out

    live.rebuild_window = timed
    try:
        number = 0
        while frames < MINUTES * 60 * 120:
            seed = list(seeds)[number % len(seeds)]
            room = make_room(seed)
            rig, rate = rig_from_document(room.rig_document(seed))
            motion = list(MOTIONS)[number % len(MOTIONS)]
            session = live.Session("take", rig, rate, room.cameras)
            session.keep_in(Journal.begin(folder.name, {}))
            world.build(1, seed, len(room.cameras))
            world.rehearse(1, motion)
            world.embody(1, number)
            lateness = _one(session, rate, number, port)
            late, frames = late + session.late, frames + session.done
            behind.append(lateness)
            number += 1
            print(
                f"take {number} {motion}: {session.done} frames, {session.late} pictures too late, at most {lateness:.2f} s behind"
            )
    finally:
        live.rebuild_window = rebuild_window
        cameras.terminate()
    each = np.repeat([t for t, _ in times], [n for _, n in times])
    return {
        "minutes": frames / 120 / 60, "pictures_too_late": late, "steps": len(times), "rebuild_ms_p50": float(np.median(each)),
        "rebuild_ms_p99": float(np.percentile(each, 99)), "most_behind_s": float(max(behind)),
    }  # fmt: skip


def _one(session, rate, number, port):
    """One take through a session; returns how far it was behind the cameras at worst, in seconds."""
    take = {"slate": 1, "number": 1, "seed": number, "performer": {"id": 1, "height_m": 1.75}}
    request = {"otrevo": "scene/1", "production": 1, "rate": str(Fraction(rate)), "scene": "take", "take": take}
    link = _connected(port)
    link.sendall(json.dumps(request).encode() + b"\n")
    link.settimeout(STEP_S)
    reader, worst, began, heard, over = PacketReader(), 0.0, None, 0.0, False
    while not over:
        step = time.monotonic()
        while time.monotonic() - step < STEP_S:
            try:
                session.take_in(reader.feed(link.recv(1 << 18)))
            except TimeoutError:
                break
            heard = time.monotonic()
            began = began or heard
        over = session.done >= TAKE_S * float(rate)
        session.advance(whole=over)
        if heard > step:  # while they send
            worst = max(worst, heard - began - session.done / float(rate))
    link.close()
    return worst


def _connected(port):
    for _ in range(100):
        try:
            return socket.create_connection(("127.0.0.1", port), 60)
        except OSError:
            time.sleep(0.1)
    raise OSError(f"the cameras' stand-in does not listen on port {port}")
