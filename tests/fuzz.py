"""`./otrevo fuzz [SECONDS]`: every reader and packet with mutated valid files; what does not end in data or one sentence is a find.

A child reads file after file; the parent watches it. A find is a crash, more than LONGEST_S, more memory than MOST_BYTES, or an exception that is
no InputError. Its file is written to `--keep` (tests/finds), where tests.core.test_finds reads it from then on.
"""

import argparse
import io
import json
import resource
import subprocess
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from fractions import Fraction
from pathlib import Path

import numpy as np

HOME = Path(__file__).resolve().parents[1]
LONGEST_S, LOADING_S, MOST_BYTES = 5.0, 120.0, 1024**3
APART, SELDOM = (".usda", ".usdc", ".usdz"), 0.01  # each takes a process of its own and half a second
FINDS = HOME / "tests" / "finds"
EXTREME = (
    b"nan",
    b"inf",
    b"-1",
    b"0",
    b"1e999",
    b"99999999999999999999",
    b"",
    b",",
    b"\x00",
    b"\xff\xfe",
    b"{",
    b"}",
    b'"',
    b"\n\n",
    b"-0.0",
    b"1e-320",
)


def readers():
    """{ending: function of a path that reads it whole}."""
    from otrevo.core.body.performer import performer_from_document
    from otrevo.core.characters.character import read_character
    from otrevo.core.characters.guarded import read_guarded
    from otrevo.core.characters.sheet import propose_sheet
    from otrevo.core.devices.catalogue import device_named
    from otrevo.core.devices.packets import DevicePacketReader
    from otrevo.core.formats import bvh, c3d, face_csv, rigid_bodies_csv, suit_table, wav
    from otrevo.core.formats.camera_packets import PacketReader
    from otrevo.core.formats.centroids import read_centroids
    from otrevo.core.formats.documents import read_document
    from otrevo.core.markers.chart import chart_from_document
    from otrevo.core.optics.documents import calibration_from_document
    from otrevo.core.optics.rig import rig_from_document
    from otrevo.core.package.check import check_package
    from otrevo.core.timecode.labels import TimecodeFormat
    from otrevo.core.timecode.ltc import read_ltc

    code = TimecodeFormat(Fraction(25))
    rig, _ = rig_from_document(
        {
            "otrevo": "cameras/1",
            "rate": "120/1",
            "cameras": [{"id": f"c{i:02d}", "width": 1000, "height": 800} for i in range(1, 5)],
        }
    )

    def streams(module):
        return lambda path: module.FORMAT.streams(path, code)

    def sound(path):
        for stream in wav.FORMAT.streams(path, code):
            read_ltc(stream.data[:200_000], float(stream.rate), code)

    def character(path):
        propose_sheet(*read_character(path))

    def apart(path):  # damaged ones end USD's library, so that the product reads them in a process of their own
        read_guarded(path, path.name)

    documents = {
        "performer/1": performer_from_document, "chart/1": chart_from_document, "cameras/1": rig_from_document,
        "calibration/1": calibration_from_document,
    }  # fmt: skip

    def document(path):
        found = read_document(path, None)
        for name, reader in documents.items():
            if isinstance(found, dict) and found.get("otrevo") == name:
                reader(found, path.name)

    return {
        ".bvh": bvh.read_bvh, ".c3d": streams(c3d), ".wav": sound, ".face.csv": streams(face_csv), ".bodies.csv": streams(rigid_bodies_csv),
        ".suit.csv": suit_table.read_suit, ".centroids.csv": lambda path: read_centroids(path, rig), ".json": document,
        ".glb": character, ".character.bvh": character, ".usda": apart, ".usdc": apart, ".usdz": apart,
        ".zip": check_package,
        ".camera-packets": lambda path: PacketReader().feed(path.read_bytes()),
        ".device-packets": lambda path: DevicePacketReader(device_named("suit")).feed(path.read_bytes()),
    }  # fmt: skip


def ending_of(path, known):
    """The longest of the known endings that a file has."""
    return max((ending for ending in known if path.name.endswith(ending)), key=len)


def corpus(folder):
    """Valid small files of everything that is read, written into a folder."""
    from otrevo.core.body.kinematics import Motion
    from otrevo.core.body.performer import PerformerCalibration
    from otrevo.core.body.skeleton import generic_skeleton
    from otrevo.core.devices.catalogue import device_named
    from otrevo.core.devices.packets import encode_device_packet
    from otrevo.core.face.shapes import FACE_SHAPES
    from otrevo.core.formats.bvh import write_bvh
    from otrevo.core.formats.c3d import write_c3d
    from otrevo.core.formats.camera_packets import encode_packet
    from otrevo.core.formats.documents import write_document
    from otrevo.core.formats.face_csv import write_face_csv
    from otrevo.core.formats.suit_table import write_suit
    from otrevo.core.formats.wav import write_wav
    from otrevo.core.markers.chart import shipped_chart
    from otrevo.core.sim.audio import ltc_track
    from otrevo.core.timecode.labels import TimecodeFormat

    rng = np.random.default_rng(1)
    skeleton, chart = generic_skeleton(), shipped_chart()
    turns = np.tile([0.0, 0, 0, 1], (6, len(skeleton.names), 1))
    motion = Motion(skeleton, Fraction(30), np.tile([0.0, 0.95, 0], (6, 1)), turns)
    write_bvh(folder / "a.bvh", motion)
    write_bvh(folder / "a.character.bvh", motion)
    write_c3d(folder / "a.c3d", rng.normal(size=(5, 4, 3)), ["a", "b", "c", "d"], Fraction(120))
    write_wav(folder / "a.wav", 48000, ltc_track(TimecodeFormat(Fraction(25)), 1000, 1)[0][:24000])
    write_face_csv(folder / "a.face.csv", np.arange(4) / 60, rng.random((4, len(FACE_SHAPES))))
    rows = [
        f"{t / 60:.4f},{n},{0.1 * i:.3f},1.0,0.0,0,0,0,1"
        for t in range(90)
        for i, n in enumerate(("hips", "leftHand", "rightHand"))
    ]
    (folder / "a.bodies.csv").write_text("time,body,px,py,pz,qx,qy,qz,qw\n" + "\n".join(rows) + "\n")
    write_suit(
        folder / "a.suit.csv",
        np.arange(60) / 60,
        ("pelvis", "chest"),
        np.tile([0.0, 0, 0, 1], (60, 2, 1)),
        np.tile([0, 9.81, 0], (60, 2, 1)),
    )
    rows = [f"{f},c{c:02d},{10 + f},{20 + c},2.5" for f in range(20) for c in range(1, 5)]
    (folder / "a.centroids.csv").write_text("frame,camera,x,y,radius\n" + "\n".join(rows) + "\n")
    calibration = PerformerCalibration(1.75, skeleton, chart.name, chart.names, chart.bones, chart.offset_m)
    write_document(folder / "performer.json", calibration.to_document())
    write_document(folder / "chart.json", chart.to_document())
    (folder / "a.camera-packets").write_bytes(
        b"".join(encode_packet("c01", f, 8000 * f, rng.random((3, 3))) for f in range(6))
    )
    suit = device_named("suit")
    (folder / "a.device-packets").write_bytes(
        b"".join(encode_device_packet(4 * f, rng.random((4, suit.width)), 0.1) for f in range(4))
    )
    small_glb(folder / "a.glb")
    for ending in (".usda", ".usdc", ".usdz"):
        small_usd(folder / f"a{ending}", skeleton)
    small_package(folder / "a.zip", motion)


def small_usd(path, skeleton):
    """A skeleton of a person as USD, in text, in its own binary form, or packed."""
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, UsdUtils, Vt

    plain = path if path.suffix != ".usdz" else path.with_name("packed.usdc")
    stage = Usd.Stage.CreateNew(str(plain))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    bones = UsdSkel.Skeleton.Define(stage, UsdSkel.Root.Define(stage, Sdf.Path("/a")).GetPath().AppendChild("bones"))
    names, places = [], np.zeros((len(skeleton.names), 3))
    for b, (name, parent) in enumerate(zip(skeleton.names, skeleton.parents, strict=True)):
        names.append(name if parent < 0 else f"{names[parent]}/{name}")
        places[b] = skeleton.rest_offset_m[b] + (places[parent] if parent >= 0 else 0)
    bones.CreateJointsAttr(names)
    for make, values in (
        (bones.CreateBindTransformsAttr, places),
        (bones.CreateRestTransformsAttr, skeleton.rest_offset_m),
    ):
        make(Vt.Matrix4dArray([Gf.Matrix4d(1).SetTranslate(Gf.Vec3d(*map(float, p))) for p in values]))
    stage.GetRootLayer().Save()
    if plain != path:
        UsdUtils.CreateNewUsdzPackage(str(plain), str(path))
        plain.unlink()


def small_package(path, motion):
    """A package of one take of a few frames."""
    from otrevo.core.formats.contract import PackageTake
    from otrevo.core.package.build import build_package

    log = {
        "slate": "1",
        "take": 1,
        "status": "open",
        "performer": "A",
        "first_timecode": "00:00:00:00",
        "last_timecode": "00:00:01:00",
        "note": "",
    }
    take = PackageTake("a", motion, ("a", "b"), np.ones((len(motion), 2, 3)), Fraction(30), log, {}, [], {}, "A v1")
    build_package(path, "x", [take], ("bvh", "c3d"), Fraction(30))


def small_glb(path):
    """A skeleton of a person as GLB, without a skin's weight."""
    from otrevo.core.body.skeleton import generic_skeleton
    from otrevo.core.characters.glb_parts import glb_bytes

    skeleton = generic_skeleton()
    nodes = [
        {"name": n, "translation": o.tolist(), "children": np.flatnonzero(skeleton.parents == i).tolist()}
        for i, (n, o) in enumerate(zip(skeleton.names, skeleton.rest_offset_m, strict=True))
    ]
    whole = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": nodes,
        "skins": [{"joints": list(range(len(nodes)))}],
    }  # fmt: skip
    path.write_bytes(glb_bytes(whole, b""))


def mutated(data, rng):
    """One to four of the ways in which files break."""
    data = bytearray(data)
    for _ in range(int(rng.integers(1, 5))):
        if not data:
            break
        at, length = int(rng.integers(len(data))), int(rng.integers(1, 48))
        way = int(rng.integers(8))
        if way == 0:
            del data[at:]
        elif way == 1:
            data[at] ^= 1 << int(rng.integers(8))
        elif way == 2:
            data[at : at + length] = rng.integers(0, 256, length, dtype=np.uint8).tobytes()
        elif way == 3:
            data[at:at] = data[at : at + length]
        elif way == 4:
            del data[at : at + length]
        elif way == 5:
            data[at : at + length] = b"\x00" * length
        elif way == 6:
            data[at : at + int(rng.integers(0, 9))] = EXTREME[int(rng.integers(len(EXTREME)))]
        else:
            other = int(rng.integers(len(data)))
            data[at : at + length] = data[other : other + length]
    return bytes(data)


def mutated_member(data, rng):
    """A ZIP with something in it mutated, and sound otherwise."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as whole, zipfile.ZipFile(out, "w") as changed:
        names = whole.namelist()
        chosen = names[int(rng.integers(len(names)))]
        for name in names:
            changed.writestr(name, mutated(whole.read(name), rng) if name == chosen else whole.read(name))
    return out.getvalue()


def _child(folder, seed):
    """Read mutated files until killed; what is read now is in `now`, how often and what was found is told a line at a time."""
    from otrevo.core.errors import InputError

    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    known, rng = readers(), np.random.default_rng(seed)
    files = [(path, ending_of(path, known), path.read_bytes()) for path in sorted(folder.glob("corpus/*"))]
    resource.setrlimit(resource.RLIMIT_AS, (_size_now() + MOST_BYTES,) * 2)
    often = np.array([SELDOM if ending in APART else 1.0 for _, ending, _ in files])
    often /= often.sum()
    while True:
        path, ending, whole = files[int(rng.choice(len(files), p=often))]
        packed = ending == ".zip" and rng.random() < 0.7
        data = mutated_member(whole, rng) if packed else mutated(whole, rng)
        now = folder / f"now{ending}"
        now.write_bytes(data)
        print(json.dumps({"reads": ending}), flush=True)
        try:
            known[ending](now)
        except InputError:
            pass
        except BaseException as error:
            print(
                json.dumps(
                    {
                        "find": f"{type(error).__name__}: {error}"[:200],
                        "where": traceback.format_exc()[-700:],
                        "ending": ending,
                    }
                ),
                flush=True,
            )


def _size_now():
    return int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()


class Ends:
    """When it is over: so many seconds after the first file was read."""

    def __init__(self, seconds):
        self.seconds, self.at = seconds, None

    def begin(self):
        self.at = self.at or time.monotonic() + self.seconds

    def over(self):
        return self.at is not None and time.monotonic() > self.at


def fuzz(seconds, keep, seed, longest_s=LONGEST_S):
    """Run for so many seconds from the first file on. Returns (how many were read, finds by what they are)."""
    read, finds, ends = 0, Counter(), Ends(seconds)
    with tempfile.TemporaryDirectory(prefix="otrevo-fuzz-") as name:
        folder = Path(name)
        (folder / "corpus").mkdir()
        corpus(folder / "corpus")
        while not ends.over():
            child = subprocess.Popen(
                [sys.executable, "-m", "tests.fuzz", "--child", name, "--seed", str(seed)],
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                cwd=HOME,
            )
            seed += 1
            read, ended = _watched(child, ends, read, finds, folder, keep, longest_s)
            child.kill()
            child.wait()
            child.stdout.close()
            if ended:
                break
    return read, finds


def _watched(child, ends, read, finds, folder, keep, longest_s):
    import selectors

    selector, ending = selectors.DefaultSelector(), None
    selector.register(child.stdout, selectors.EVENT_READ)
    rest = b""
    while True:
        if not selector.select(LOADING_S if ending is None else longest_s):  # it has to load everything first
            _found(finds, f"hang in {ending}", "", ending, folder, keep)
            return read, ending is None
        data = child.stdout.read1(1 << 16)
        if not data:
            _found(finds, f"crash in {ending}: status {child.wait()}", "", ending, folder, keep)
            return read, False
        *lines, rest = (rest + data).split(b"\n")
        for line in lines:
            told = json.loads(line)
            if "reads" in told:
                ending, read = told["reads"], read + 1
                ends.begin()
            else:
                _found(finds, told["find"], told["where"], told["ending"], folder, keep)
        if ends.over():
            return read, True


def _found(finds, what, where, ending, folder, keep):
    place = next(
        (
            line.strip()
            for line in reversed(where.splitlines())
            if line.strip().startswith('File "') and "/src/otrevo/" in line
        ),
        "",
    )
    key = f"{ending} {what.split(':')[0]} {place.split('/src/')[-1]}"
    finds[key] += 1
    if finds[key] > 1 or ending is None:
        return
    print(f"FIND {key}\n{what}\n{where}", flush=True)
    if keep:
        keep.mkdir(exist_ok=True)
        now = folder / f"now{ending}"
        if now.exists():
            (keep / f"{time.time_ns():x}{ending}").write_bytes(now.read_bytes())


def main():
    parser = argparse.ArgumentParser(prog="otrevo fuzz")
    parser.add_argument("seconds", type=float, nargs="?", default=60.0)
    parser.add_argument("--seed", type=int, default=time.time_ns() % 10**6)
    parser.add_argument("--keep", type=Path, default=FINDS)
    parser.add_argument("--child", type=Path, help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.child:
        _child(arguments.child, arguments.seed)
    read, finds = fuzz(arguments.seconds, arguments.keep, arguments.seed)
    print(f"{read} files read, seed {arguments.seed}; {sum(finds.values())} finds of {len(finds)} kinds")
    for key, count in finds.most_common():
        print(f"{count:6} {key}")
    return 1 if finds else 0


if __name__ == "__main__":
    sys.exit(main())
