"""`./otrevo fuzz --guided [SECONDS]`: files mutated towards code that none of them has reached yet, reader after reader.

Where `./otrevo fuzz` breaks files in every way it knows, this follows the coverage of our readers, which gets past what is checked first. A find is what
it is there; its file is written to `--keep`.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.fuzz import APART, FINDS, HOME, LONGEST_S, MOST_BYTES, corpus, ending_of, readers


def _compiled():
    """Our modules with compiled loops, whose code must stay as it is."""
    source = HOME / "src"
    files = (source / "otrevo" / "core").rglob("*.py")
    return [".".join(f.relative_to(source).with_suffix("").parts) for f in files if "njit" in f.read_text()]


def _child(ending, seconds, folder):
    """Fuzz one reader until something is found or the time is over."""
    import atheris

    with atheris.instrument_imports(include=["otrevo"], exclude=_compiled()):
        from otrevo.core.errors import InputError

        reader = readers()[ending]
    now = folder / f"now{ending}"

    def read(data):
        now.write_bytes(data)
        try:
            reader(now)
        except InputError:
            pass

    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    own = folder / "corpus"
    for valid in own.iterdir():
        read(valid.read_bytes())  # loads what the first file would wait for
    limits = f"-max_total_time={seconds}", f"-timeout={int(LONGEST_S)}", f"-rss_limit_mb={MOST_BYTES // 2**20}"
    atheris.Setup(
        [ending, *limits, "-verbosity=0", "-print_final_stats=1", f"-artifact_prefix={folder}/find-", str(own)], read
    )
    atheris.Fuzz()


def guided(seconds, keep):
    """Every reader for its share of so many seconds. Returns [(ending, how many files it read, what was found or "")]."""
    out = []
    with tempfile.TemporaryDirectory(prefix="otrevo-guided-") as name:
        (Path(name) / "corpus").mkdir()
        corpus(Path(name) / "corpus")
        known = [ending for ending in readers() if ending not in APART]
        for ending in known:
            folder = Path(name) / ending.strip(".")
            (folder / "corpus").mkdir(parents=True)
            for valid in Path(name).glob(f"corpus/*{ending}"):
                if ending_of(valid, known) == ending:
                    (folder / "corpus" / valid.name).write_bytes(valid.read_bytes())
            words = ["--child", ending, str(max(1, seconds // len(known))), "--folder", str(folder)]
            done = subprocess.run(
                [sys.executable, "-m", "tests.guided", *words], cwd=HOME, capture_output=True, text=True
            )
            count = next(
                (int(line.split()[-1]) for line in done.stderr.splitlines() if "number_of_executed_units" in line), 0
            )
            finds = sorted(folder.glob("find-*"))
            out.append(
                (ending, count, "" if not done.returncode and not finds else (done.stdout + done.stderr)[-1500:])
            )
            print(f"{ending:16} {count:8} files{'' if not out[-1][2] else '  FIND' + chr(10) + out[-1][2]}", flush=True)
            for number, find in enumerate(finds):
                keep.mkdir(exist_ok=True)
                (keep / f"{find.name}-{number}{ending}").write_bytes(find.read_bytes())
    return out


def main():
    parser = argparse.ArgumentParser(prog="otrevo fuzz --guided")
    parser.add_argument("seconds", type=int, nargs="?", default=300)
    parser.add_argument("--keep", type=Path, default=FINDS)
    parser.add_argument("--child", help=argparse.SUPPRESS)
    parser.add_argument("--folder", type=Path, help=argparse.SUPPRESS)
    told = parser.parse_args()
    if told.child:
        return _child(told.child, told.seconds, told.folder)
    return 1 if any(find for _, _, find in guided(told.seconds, told.keep)) else 0


if __name__ == "__main__":
    sys.exit(main())
