"""The whole product as processes on this machine, for tests that kill parts of it: database, stand-ins, recorders, web, workers."""

import http.cookiejar
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

from websockets.exceptions import WebSocketException
from websockets.sync.client import connect

HOME = Path(__file__).resolve().parents[2]
PATIENCE_S = 300.0  # a busy machine is slow, and what never comes fails all the same


def until(look, seconds=PATIENCE_S):
    """What `look` says as soon as it says something."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = look()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(f"nothing came within {seconds:.0f} s")


class Product:
    """Started in a folder of its own, with the small production of tests.server.production; `with` ends it."""

    def __init__(self):
        self.folder = tempfile.TemporaryDirectory(prefix="otrevo-product-")
        self.data = Path(self.folder.name)
        self.data.chmod(0o755)
        self.cookies = http.cookiejar.CookieJar()
        self.client = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.launcher = self.port = None

    def __enter__(self):
        self.start()
        return self

    def __exit__(self, *_):
        self.stop()
        self.folder.cleanup()

    def start(self):
        """Start the launcher, as its command does, and wait until the web server answers."""
        environment = os.environ | {
            "PYTHONPATH": f"{HOME / 'src'}:{HOME}",
            "OTREVO_HOME": str(HOME),
            "OMP_NUM_THREADS": "1",
        }
        for name in ("OTREVO_DATA", "OTREVO_SECRET_KEY", "OTREVO_DB_PORT", "OTREVO_DB_NAME", "DJANGO_SETTINGS_MODULE"):
            environment.pop(name, None)
        self.launcher = subprocess.Popen(
            [sys.executable, "-m", "tests.server.product", str(self.data)], env=environment, cwd=HOME, text=True,
            stdout=subprocess.PIPE, stderr=(self.data / "launcher.log").open("a"), start_new_session=True,
        )  # fmt: skip
        while line := self.launcher.stdout.readline():
            if line.startswith("{"):
                told = json.loads(line)
                self.port, self.slate, self.production = told["port"], told["slate"], told["production"]
                return
        raise AssertionError(f"the product did not start: {(self.data / 'launcher.log').read_text()[-2000:]}")

    def stop(self, how=signal.SIGTERM):
        self.launcher.send_signal(how)
        self.launcher.wait(PATIENCE_S)
        self.launcher.stdout.close()

    def ask(self, method, path, body=None):
        """(status, answer) of a request to the API."""
        headers = {"Content-Type": "application/json"}
        token = next((c.value for c in self.cookies if c.name == "csrftoken"), None)
        if token:
            headers["X-CSRFToken"] = token
        data = None if body is None and method == "GET" else json.dumps(body or {}).encode()
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}/api{path}", data, headers, method=method)
        try:
            with self.client.open(request, timeout=40) as answer:
                return answer.status, json.loads(answer.read() or b"null")
        except urllib.error.HTTPError as error:
            return error.code, json.loads(error.read() or b"null")

    def sign_in(self, name, password):
        self.ask("GET", "/csrf")
        status, answer = self.ask("POST", "/sign-in", {"name": name, "password": password})
        assert status == 200, answer

    def patiently(self, method, path, body=None, seconds=PATIENCE_S):
        """The answer as soon as it is given with 200; for when the web server or the database has just been killed."""
        deadline, last = time.monotonic() + seconds, None
        while time.monotonic() < deadline:
            try:
                status, last = self.ask(method, path, body)
                if status == 200:
                    return last
            except (OSError, ValueError) as error:
                last = error
            time.sleep(0.1)
        raise AssertionError(f"{path} was not answered within {seconds:.0f} s: {last}")

    def all_heard(self, after_s=-1.0):
        """Wait until the Floor says of every device and every camera that something comes in, as whoever stands there would.

        Returns the timecode up to which cameras have been recorded, s; only one that is later than after_s will do.
        """

        def look():
            cookies = "; ".join(f"{c.name}={c.value}" for c in self.cookies)
            here = f"127.0.0.1:{self.port}"
            try:
                with connect(
                    f"ws://{here}/live/{self.production}", origin=f"http://{here}", additional_headers={"Cookie": cookies},
                    max_size=None,
                ) as socket:  # fmt: skip
                    socket.send(json.dumps({"watch": True}))
                    while told := json.loads(socket.recv(timeout=10)):
                        devices, cameras = told.get("devices", ()), told.get("cameras", ())
                        until_s = told.get("timecode_s") or -1.0
                        heard = all(d["hz"] > 0 for d in devices) and all(c["fps"] > 0 for c in cameras)
                        if devices and heard and until_s > after_s:
                            return until_s
            except (OSError, WebSocketException):  # the web server has just been killed
                return None

        return until(look)

    def parts(self):
        """{name: pid} of what runs."""
        told = json.loads((self.data / "parts.json").read_text())["parts"]
        return {name: part["pid"] for name, part in told.items() if part["runs"]}

    def recorder(self):
        """The name of the recorder that works, or None: the others stand by and listen to nobody."""
        parts = self.parts()
        return next((name for name in parts if name.startswith("recorder") and _listens(parts[name])), None)

    def kill(self, name):
        """kill -9; the pid that is gone."""
        pid = self.parts()[name]
        os.kill(pid, signal.SIGKILL)
        return pid


def _listens(pid):
    """Whether a process has a listening socket."""
    listening = {
        line.split()[9]
        for line in Path("/proc/net/tcp").read_text().splitlines()[1:]
        if line.split()[3] == "0A"
    }  # fmt: skip
    try:
        links = [os.readlink(f) for f in Path(f"/proc/{pid}/fd").iterdir()]
    except OSError:
        return False
    return any(link.startswith("socket:[") and link[8:-1] in listening for link in links)


def main(data):
    """Be the launcher of a product with the tests' production."""
    from otrevo.server.cluster import LaunchError, free_port
    from otrevo.server.launch import add_parts, prepare, started, wait_for

    def loaded():
        prepare(data)
        from django.contrib.auth.models import User

        from otrevo.server.shoot.models import Slate
        from tests.server.production import calibrate, make_production

        if not User.objects.exists():
            _, slate = make_production()
            calibrate(slate.performer)
        return Slate.objects.get(name="15")

    try:
        with started(data, say=lambda words: print(words, file=sys.stderr, flush=True)) as supervisor:
            slate, port = loaded(), free_port()
            add_parts(supervisor, port, data)
            wait_for(f"http://127.0.0.1:{port}/api/csrf")
            print(json.dumps({"port": port, "slate": slate.pk, "production": slate.day.production_id}), flush=True)
            signal.pause()
    except KeyboardInterrupt:
        return 0
    except LaunchError as error:
        print(error, file=sys.stderr)
        return 1


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
