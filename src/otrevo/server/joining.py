"""`./otrevo worker`: workers on a further machine, for an installation that serves somewhere else."""

import json
import os
import ssl
import time
import urllib.error
import urllib.request
from pathlib import Path

from otrevo.server.cluster import LaunchError
from otrevo.server.supervise import Part
from otrevo.server.version import source_digest

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))
AGAIN_S, ANSWER_S = 2.0, 10.0


def worker(arguments):
    """Compute for the installation at --server until Ctrl-C."""
    from otrevo.server.launch import started

    data = Path(arguments.data).resolve() if arguments.data else HOME / ".otrevo-worker"
    try:
        key = Path(arguments.key_file).read_text().strip()
    except OSError as error:
        raise LaunchError(
            f"{arguments.key_file}: cannot be read ({error.strerror}); expected the server's workers-key."
        ) from None
    asked = _Asked(arguments.server, key, arguments.ca)
    try:
        with started(data, database=arguments.server) as supervisor:  # the database is there, and none is started here
            environment = asked.environment(data)
            for i in range(arguments.workers):
                supervisor.add(Part.of_python(f"worker-{i + 1}", data, environment, HOME, "otrevo.server.work.worker"))
            print(f"{arguments.workers} workers compute for {arguments.server}. Ctrl-C ends them.", flush=True)
            while True:
                time.sleep(0.5)
    except KeyboardInterrupt:
        print("Stopped.")


class _Asked:
    """What the server says of itself to who has the key."""

    def __init__(self, server, key, authority=None):
        self.server, self.key = server.rstrip("/"), key
        self.trust = ssl.create_default_context(cafile=authority) if self.server.startswith("https:") else None

    def environment(self, data):
        """Variables for workers here. Waits as long as nobody answers; raises LaunchError for what waiting does not mend."""
        told = self._settings()
        if told["version"] != source_digest():
            raise LaunchError(
                f"The server runs Otrevo {told['version']} and this machine {source_digest()}; install the same version here."
            )
        database = {f"OTREVO_DB_{name.upper()}": str(value) for name, value in told["database"].items()}
        return os.environ | database | {
            "DJANGO_SETTINGS_MODULE": "otrevo.server.settings", "OTREVO_DATA": str(data), "OTREVO_SECRET_KEY": "serves-nobody",
            "OTREVO_CLEAN_UP_S": "0", "PYTHONPATH": str(HOME / "src"), "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1",
        }  # fmt: skip

    def _settings(self):
        request = urllib.request.Request(
            f"{self.server}/api/worker-settings", headers={"Authorization": f"Bearer {self.key}"}
        )
        said = False
        while True:
            try:
                with urllib.request.urlopen(request, timeout=ANSWER_S, context=self.trust) as answer:
                    return json.load(answer)
            except urllib.error.HTTPError as error:
                if error.code < 500:
                    raise LaunchError(f"{self.server}: {_sentence(error)}") from None
            except ValueError as error:
                raise LaunchError(f"{self.server}: this is not the address of an Otrevo server ({error}).") from None
            except OSError as error:
                if isinstance(getattr(error, "reason", error), ssl.SSLError):
                    raise LaunchError(
                        f"{self.server}: its certificate is not trusted here; give its authority with --ca."
                    ) from None
                if not said:
                    print(
                        f"{self.server} does not answer ({getattr(error, 'reason', error)}); trying again.", flush=True
                    )
                said = True
            time.sleep(AGAIN_S)


def _sentence(error):
    try:
        return json.load(error)["detail"]
    except (ValueError, KeyError, TypeError):
        return f"answered {error.code}; expected an Otrevo server."


def add_command(commands):
    """Declare the command to an argparse subparsers object."""
    p = commands.add_parser("worker", help="Compute for an installation that serves on another machine.")
    p.add_argument("--server", required=True, help="its address, such as https://capture.example:8470")
    p.add_argument("--key-file", required=True, help="a copy of workers-key from the server's data folder")
    p.add_argument("--workers", type=int, default=max(1, (os.cpu_count() or 2) - 1), help="how many passes at one time")
    p.add_argument("--ca", help="the certificate of the authority that the server's certificate is from")
    p.add_argument("--data", help="a folder for logs")
    p.add_argument("--no-install", action="store_true")
    p.set_defaults(do=worker)
