"""Files that `./otrevo fuzz` has found to break a reader: each ends in data or in one sentence, soon."""

import subprocess
import sys
import unittest
from pathlib import Path

from tests.fuzz import FINDS, HOME, LONGEST_S, fuzz, mutated, readers

ALL = """
import sys, time
from pathlib import Path
from otrevo.core.errors import InputError
from tests.fuzz import readers
known = readers()
for name in sys.argv[1:]:
    path = Path(name)
    began = time.monotonic()
    try:
        known[max((e for e in known if path.name.endswith(e)), key=len)](path)
        said = "read"
    except InputError as error:
        said = str(error)
    print(path.name, round(time.monotonic() - began, 2), said, sep="\\t", flush=True)
"""


class Finds(unittest.TestCase):
    def test_each_is_read_or_refused_in_a_sentence(self):
        files = sorted(str(p) for p in FINDS.iterdir())
        self.assertGreater(len(files), 4)
        done = subprocess.run(
            [sys.executable, "-c", ALL, *files],
            cwd=HOME,
            capture_output=True,
            text=True,
            timeout=120 + LONGEST_S * len(files),
        )
        told = [line.split("\t") for line in done.stdout.splitlines()]
        self.assertEqual([Path(f).name for f in files], [row[0] for row in told], done.stderr[-1500:])
        for name, _, said in told:
            self.assertTrue(said == "read" or said.startswith(name) or name.split(".")[0] in said, said)

    def test_the_fuzzer_reads_every_kind_and_finds_nothing_in_a_moment(self):
        self.assertEqual(set(readers()), {
            ".usda", ".usdc", ".usdz", ".zip",
            ".bvh", ".c3d", ".wav", ".face.csv", ".bodies.csv", ".suit.csv", ".centroids.csv", ".json", ".glb", ".character.bvh",
            ".camera-packets", ".device-packets",
        })  # fmt: skip
        read, finds = fuzz(3.0, None, 5, 60.0)  # a busy machine is slow
        self.assertGreater(read, 20)
        self.assertEqual(dict(finds), {})

    def test_mutations_change_files(self):
        import numpy as np

        rng, whole = np.random.default_rng(3), bytes(range(256)) * 4
        self.assertGreater(len({mutated(whole, rng) for _ in range(50)}), 45)
