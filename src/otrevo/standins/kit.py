"""Stand-in for every device but the cameras: a process that sends device packets in real time over local sockets.

`python -m otrevo.standins.kit PORT`. A client connects, says in one line of JSON which device it wants to hear, and
receives its packets (core.devices.packets) until it goes:

    {"otrevo": "device/1", "device": "suit", "performer": {"id": 1, "height_m": 1.68}, "timecode": {"rate": "30000/1001",
     "drop": true}, "take": null}

"take" is what standins.world.performance takes; without it whoever wears the device stands about. "zero_us" is the timecode at the roll,
which was "since_s" seconds before the request came (0 where it is not said): what was due before the request is not sent again.
With "stand_by" nothing is sent, but everybody takes their place.
"""

import asyncio
import json
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from fractions import Fraction
from functools import lru_cache

import numpy as np

from otrevo.core.devices.catalogue import device_named
from otrevo.core.devices.packets import encode_device_packet
from otrevo.core.errors import InputError
from otrevo.core.sim.devices import device_stream
from otrevo.core.sim.stage import performed
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.standins import serving, world

LONGEST_S = 300.0
IDLE_S = 1.5
STILL_S = 20.0
AHEAD_S = 8.0
EARLY_S = 1.0  # no device's clock is farther off
DAY_US = 86_400_000_000
_one_performs = threading.Lock()
_AHEAD = ThreadPoolExecutor(2)


@lru_cache(maxsize=8)
def _performed(document):
    return performed(**json.loads(document))[1]


def _performance(take):
    """The Performance of a take, worked out once for all devices that follow it."""
    with _one_performs:
        return _performed(json.dumps(world.performance(take), sort_keys=True))


class Sending:
    """One device as it sends: a take's stream, held after its end until somebody cuts, or a moment of standing about.

    seconds: how long the take lasts, where that is known before.
    """

    def __init__(self, request, seconds=None):
        if request.get("otrevo") != "device/1":
            raise InputError("expected a device/1 request")
        self.device, self.take = device_named(request["device"]), request.get("take")
        code = request["timecode"]
        self.format = TimecodeFormat(Fraction(code["rate"]), code["drop"])
        zero_us = request.get("zero_us")
        if zero_us is None:
            now = datetime.now(UTC)
            midnight = now.replace(hour=0, minute=0, second=0, microsecond=0)
            zero_us = int((now - midnight).total_seconds() * 1e6)
        self.frame = round(zero_us / 1e6 * self.format.rate) % self.format.frames_per_day
        self.shown_as = self.take or {
            "slate": 0,
            "number": 0,
            "warm_up": True,
            "performer": request.get("performer") or _NOBODY,
        }
        self.whole, self.ahead = seconds is not None, None
        self._use(self._made(seconds))

    def _made(self, seconds):
        """(samples, stamps, clock) of the device, following the performance for so many seconds at least."""
        performance = _performance(self.shown_as)
        performance = performance.until(seconds or 0.0) if self.take else performance.first(IDLE_S)
        of = world.performance(self.shown_as)
        stream, clock = device_stream(
            self.device, performance, of["performer_seed"], of["seed"], self.format, self.frame
        )
        return stream.data.reshape(len(stream.data), -1), {int(n): second for n, second in stream.stamps}, clock

    def _use(self, made):
        self.samples, self.stamps, self.clock = made

    def packet(self, first):
        """(seconds after the roll at which it is due, its bytes or None when it was lost, samples in it); None at the end."""
        count, have = self.device.per_packet, len(self.samples)
        if not self.take:  # to and fro, so that nothing leaps
            at = np.abs((np.arange(first, first + count) + have - 1) % (2 * have - 2) - have + 1)
            return self._due(first + count), encode_device_packet(first, self.samples[at]), count
        if not self.whole:
            self._look_ahead(first + count, have / float(self.device.rate))
        part = self.samples[first : first + count]
        if len(part) < count and not self.whole:  # nobody has cut for a very long time
            part = self.samples[self._still(np.arange(first, first + count))]
        if not len(part):
            return None
        data = None if np.isnan(part).all() else encode_device_packet(first, part, self._stamp(first))
        return self._due(first + len(part)), data, len(part)

    def _still(self, numbers):
        """Numbers of samples that are there for those that come after them: of the last while, to and fro, as nothing moves any more."""
        last, back = len(self.samples) - 1, int(STILL_S * self.device.rate)
        over = np.maximum(numbers - last, 0)
        return np.minimum(numbers, last) - (back - np.abs(over % (2 * back) - back))

    def _stamp(self, number):
        """The seconds of day that the device shows at a sample, where it shows any there; they go on evenly after the last one."""
        if number < len(self.samples) or len(self.stamps) < 2:
            return self.stamps.get(number)
        told = sorted(self.stamps.items())
        (first, since), (before, _), (last, second) = told[0], *told[-2:]
        if (number - last) % (last - before):
            return None
        return second + (number - last) * (second - since) / (last - first)

    def first_due_after(self, seconds):
        """The number of the first sample of the first packet that is due after so many seconds."""
        each = self.device.per_packet
        first = max(0, int((seconds - EARLY_S) * self.device.rate) // each * each)
        while seconds > 0 and (packet := self.packet(first)) is not None and packet[0] < seconds:
            first += packet[2]
        return first

    def _look_ahead(self, end, have_s):
        """Whoever is done stays until it is cut: what they do then is worked out before it is needed."""
        if self.ahead is None and end > (have_s - AHEAD_S) * self.device.rate and have_s < LONGEST_S - 1.0:
            self.ahead = _AHEAD.submit(self._made, min(2 * have_s, LONGEST_S))
        if end > len(self.samples) and self.ahead is not None:
            self._use(self.ahead.result())
            self.ahead = None

    def _due(self, number):
        if self.clock is None:
            return number / float(self.device.rate)
        return self.clock.start_s + number / self.clock.rate_hz * (1 + 1e-6 * self.clock.drift_ppm)


_NOBODY = {"id": 0, "height_m": 1.7}


def lasts_s(take):
    """How long a take's performance lasts, seconds."""
    motion = _performance(take).motion
    return len(motion) / float(motion.rate)


def packets_at_once(request, seconds):
    """All that a device would have sent in a take of so many seconds, without waiting for it."""
    sending, first, out = Sending(request, seconds), 0, []
    while (packet := sending.packet(first)) is not None and packet[0] <= seconds:
        if packet[1] is not None:
            out.append(packet[1])
        first += packet[2]
    return b"".join(out)


async def _send(sending, writer, rolled_at, since_s):
    first = await asyncio.to_thread(sending.first_due_after, since_s)
    while (packet := await asyncio.to_thread(sending.packet, first)) is not None:
        due, data, count = packet
        wait = rolled_at + due - time.monotonic()
        if wait > 0.002:
            await asyncio.sleep(wait)
        if data is not None:
            writer.write(data)
            await writer.drain()
        first += count


async def _serve(reader, writer):
    try:
        request = json.loads(await reader.readline())
        if not serving.may_ask(request):
            return
        asked_at = time.monotonic()
        if request.get("stand_by"):
            await asyncio.to_thread(_performance, request["take"])
        else:
            since_s = float(request.get("since_s", 0.0))
            await _send(await asyncio.to_thread(Sending, request), writer, asked_at - since_s, since_s)
            await reader.read()  # it has nothing more to say, and stays on the line until somebody cuts
    except (InputError, ValueError, KeyError, TypeError) as error:
        print(f"kit: request refused: {error}", file=sys.stderr, flush=True)
    except (ConnectionError, asyncio.CancelledError):
        pass  # nobody listens any more
    finally:
        writer.close()


if __name__ == "__main__":
    serving.run("kit", _serve)
