"""The `./otrevo` command on machines that lack something, with stand-ins for the package managers."""

import os
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

HOME = Path(__file__).resolve().parents[2]
TOOLS = (
    "bash",
    "env",
    "dirname",
    "pwd",
    "cmp",
    "cp",
    "find",
    "mkdir",
    "touch",
    "cat",
    "chmod",
    "ls",
    "grep",
    "sed",
    "rm",
    "true",
)


class Command(unittest.TestCase):
    """A bare machine: a folder with the command and its lock files, and a PATH with a few tools in it."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.home = Path(folder.name) / "checkout"
        self.bin = Path(folder.name) / "bin"
        self.bin.mkdir()
        (self.home / "web" / "src").mkdir(parents=True)
        for name in ("otrevo", "requirements.lock", "web/package-lock.json"):
            shutil.copy(HOME / name, self.home / name)
        for tool in TOOLS:
            found = shutil.which(tool)
            if found:
                (self.bin / tool).symlink_to(found)
        self.said = Path(folder.name) / "said"
        self.said.write_text("")

    def stand_in(self, name, script):
        path = self.bin / name
        path.write_text(f"#!{shutil.which('bash')}\n{script}\n")
        path.chmod(0o755)

    def run_command(self, *arguments):
        environment = {"PATH": str(self.bin), "SAID": str(self.said), "HOME": str(self.home)}
        done = subprocess.run(
            [shutil.which("bash"), str(self.home / "otrevo"), *arguments], env=environment, capture_output=True, text=True,
            timeout=60,
        )  # fmt: skip
        return done.returncode, done.stdout, done.stderr

    def python_that_works(self):
        """A python3 whose virtual environments hold a stand-in that notes what it was asked for."""
        self.stand_in("id", "echo 0")
        inner = f'#!{shutil.which("bash")}\necho "venv python $*" >> "$SAID"\n'
        self.stand_in(
            "python3",
            'case "$1 $2" in "-c "*) exit 0;; "-m venv") mkdir -p "$3/bin"; printf \'%s\' \'' + inner
            + '\' > "$3/bin/python"; chmod 755 "$3/bin/python";; esac',
        )  # fmt: skip

    def test_usage_and_unknown_words(self):
        status, out, _ = self.run_command()
        self.assertEqual(status, 0)
        self.assertIn("./otrevo demo", out)
        status, _, errors = self.run_command("dance")
        self.assertEqual(status, 2)
        self.assertIn("usage", errors)

    def test_missing_python_names_its_package_when_nothing_may_be_installed(self):
        status, _, errors = self.run_command("demo", "--no-install")
        self.assertEqual(status, 1)
        self.assertRegex(errors, r"^otrevo: python3 is missing.*package python3 python3-venv\.\n$")

    def test_whoever_is_not_root_is_told_what_to_install(self):
        self.stand_in("id", "echo 1000")
        status, _, errors = self.run_command("demo")
        self.assertEqual(status, 1)
        self.assertIn("apt-get install python3 python3-venv", errors)
        self.assertEqual(errors.count("\n"), 1)

    def test_what_is_missing_is_installed_from_debian(self):
        self.python_that_works()
        (self.bin / "python3").rename(self.bin / "python3.later")
        self.stand_in(
            "apt-get",
            'echo "apt-get $*" >> "$SAID"\ncase "$*" in *"python3 python3-venv"*) cp "' + str(self.bin / "python3.later")
            + '" "' + str(self.bin / "python3") + '";; esac',
        )  # fmt: skip
        self.run_command("test", "core")
        said = self.said.read_text().splitlines()
        self.assertEqual(said[0], "apt-get update -q")
        self.assertTrue(said[1].startswith("apt-get install -y -q --no-install-recommends python3 python3-venv"), said)
        self.assertTrue(any("pip install" in line and "requirements.lock" in line for line in said), said)
        self.assertTrue(any(line.endswith("-m tests.run core") for line in said), said)
        self.assertEqual(sum("apt-get update" in line for line in said), 1, "the index is fetched once")

    def test_a_package_that_cannot_be_had_is_one_sentence(self):
        self.stand_in("id", "echo 0")
        self.stand_in("apt-get", "exit 100")
        status, _, errors = self.run_command("demo")
        self.assertEqual(status, 1)
        self.assertRegex(errors, r"^otrevo: Debian's package python3 python3-venv could not be installed.*\n$")

    def test_nothing_is_installed_twice(self):
        self.python_that_works()
        self.run_command("test", "core")
        first = self.said.read_text().count("pip install")
        self.run_command("test", "core")
        self.assertEqual((first, self.said.read_text().count("pip install")), (1, 1))
        (self.home / "requirements.lock").write_text("something==2\n")
        self.run_command("test", "core")
        self.assertEqual(self.said.read_text().count("pip install"), 2, "a changed lock file is installed again")

    def test_a_changed_lock_file_is_told_where_nothing_may_be_installed(self):
        self.python_that_works()
        self.run_command("test", "core")
        (self.home / "requirements.lock").write_text("something==2\n")
        status, _, errors = self.run_command("demo", "--no-install")
        self.assertEqual(status, 1)
        self.assertIn("requirements.lock has changed", errors)

    def test_a_front_end_that_cannot_be_installed_is_one_sentence(self):
        self.python_that_works()
        for name in ("node", "npx"):
            self.stand_in(name, "exit 0")
        self.stand_in("npm", 'echo "npm $*" >> "$SAID"; exit 1')
        if not list(Path("/usr/lib/postgresql").glob("*/bin/postgres")):
            self.skipTest("the step before needs PostgreSQL's server")
        status, _, errors = self.run_command("demo")
        self.assertEqual(status, 1)
        self.assertRegex(errors, r"otrevo: npm ci failed in web/\.\n$")
        self.assertTrue(any(line.startswith("npm ci") for line in self.said.read_text().splitlines()))

    def test_loops_are_compiled_anew_when_any_source_has_changed(self):
        """Also those whose own file has not, but which call one that has."""
        self.python_that_works()
        cached = self.home / "src" / "otrevo" / "core" / "__pycache__"
        cached.mkdir(parents=True)
        source, loop = self.home / "src" / "otrevo" / "one.py", cached / "two.loop.nbc"
        loop.touch()

        def compiled():
            self.assertEqual(self.run_command("run", "solve")[0], 0)
            return self.said.read_text().count("-m otrevo.cli.warm")

        self.assertEqual(compiled(), 1)
        self.assertFalse(loop.exists())
        loop.touch()
        self.assertEqual(compiled(), 1)
        self.assertTrue(loop.exists())
        stamped = (cached / ".compiled").stat().st_mtime
        source.touch()
        os.utime(source, (stamped + 1, stamped + 1))
        self.assertEqual(compiled(), 2)
        self.assertFalse(loop.exists())

    def test_the_command_may_be_called_from_anywhere(self):
        self.python_that_works()
        self.run_command("test", "core")
        before = os.getcwd()
        try:
            os.chdir("/")
            status, _, _ = self.run_command("test", "core")
        finally:
            os.chdir(before)
        self.assertEqual(status, 0)
