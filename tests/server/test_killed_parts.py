"""Parts of the real product killed with SIGKILL while a take rolls: the take goes on, says what it lacks, and is worked through."""

import os
import signal
import time
import unittest

from tests.server.product import Product, until

PASSWORD = "harbour-lights"  # of tests.server.production, which only the product itself may import here
FEW_FRAMES_S = 0.1


def lives(pid):
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True


class KilledParts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.product = cls.enterClassContext(Product())
        cls.product.sign_in("technician-SMS", PASSWORD)

    def setUp(self):
        until(self.product.recorder)

    def roll(self):
        self.product.patiently("POST", f"/slates/{self.product.slate}/roll")
        self.product.all_heard()
        time.sleep(3.0)

    def ended(self, take, last="solve"):
        """Runs of a take when those up to `last` have ended."""

        def look():
            runs = self.product.patiently("GET", f"/takes/{take}/runs")
            over = [r["state"] not in ("queued", "running") for r in runs]
            names = [r["name"] for r in runs]
            return runs if last in names and all(over[: names.index(last) + 1]) else None

        return until(look, 600)

    def test_a_take_outlives_recorder_web_server_database_and_worker(self):
        self.roll()
        deaf = 0.0  # seconds of the cameras' clock between what one recorder had for sure and what the next one had
        for part in ("recorder", "web", "database", "worker-1", "recorder"):
            had_s = self.product.all_heard()
            time.sleep(0.5)  # by then that is on the disk
            self.product.kill(until(self.product.recorder) if part == "recorder" else part)
            time.sleep(1.5)
            has_s = self.product.all_heard(had_s + 0.5)  # and another recorder has had the time to stand by
            deaf += has_s - had_s if part == "recorder" else 0.0
        rolling = self.product.patiently("GET", f"/productions/{self.product.production}/rolling")
        self.assertEqual(rolling["number"], 2)
        take = self.product.patiently("POST", f"/slates/{self.product.slate}/cut")
        self.assertEqual(take["note"], "", "nothing was lost but what is said")
        runs = self.ended(take["id"])
        self.assertEqual({r["state"] for r in runs}, {"done"}, [r["message"] for r in runs])
        line_up = next(r for r in runs if r["name"] == "line up")
        self.assertTrue(line_up["figure"]["good"], "what came after a gap stands where it belongs")
        bench = self.product.patiently("GET", f"/takes/{take['id']}/bench")
        told = [s for s in bench["snags"] if s["kind"] == "not recorded"]
        gaps = [s["end_s"] - s["start_s"] for s in told]
        few = [s for s in gaps if s < FEW_FRAMES_S]  # that a busy machine lost besides, which is said as well
        self.assertEqual(len(gaps) - len(few), 2, [s["text"] for s in told])  # once for each recorder
        self.assertLess(sum(few), FEW_FRAMES_S)
        lost = sum(gaps)
        self.assertLess(lost, deaf)
        streams = {s["name"]: s for s in bench["streams"] if not s["computed"]}
        frames = streams["cameras"]["details"]["frames"]
        self.assertAlmostEqual(frames / 120, take["duration_s"], delta=0.5)
        for name in ("suit", "gloves", "face", "timecode", "room"):
            seconds = streams[name]["samples"] / streams[name]["rate_hz"]
            self.assertAlmostEqual(seconds, take["duration_s"], delta=1.0 + deaf, msg=name)

    def test_a_killed_launcher_leaves_nothing_and_its_take_goes_on(self):
        self.roll()
        before = self.product.parts()
        self.product.stop(signal.SIGKILL)
        until(lambda: not any(map(lives, before.values())))
        self.product.start()
        rolling = self.product.patiently("GET", f"/productions/{self.product.production}/rolling")
        self.assertEqual((rolling["slate"], rolling["number"]), ("15", 1))
        until(self.product.recorder)
        self.product.all_heard()
        take = self.product.patiently("POST", f"/slates/{self.product.slate}/cut")
        bench = self.product.patiently("GET", f"/takes/{take['id']}/bench")
        cameras = next(s for s in bench["streams"] if s["name"] == "cameras")
        self.assertGreater(cameras["details"]["frames"], 300, "what was recorded before is there")
        self.ended(take["id"], "line up")
        bench = self.product.patiently("GET", f"/takes/{take['id']}/bench")
        self.assertTrue([s for s in bench["snags"] if s["kind"] == "not recorded"])


if __name__ == "__main__":
    unittest.main()
