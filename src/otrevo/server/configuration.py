"""What `./otrevo serve` is told: one TOML file, and the environment, which goes first. docs/running.md explains every word."""

import os
import tomllib
from dataclasses import dataclass, field
from ipaddress import ip_network
from pathlib import Path

from otrevo.server.cluster import LaunchError

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))
SECTIONS = {
    "": {
        "address": str,
        "port": int,
        "hosts": list,
        "data": str,
        "workers": int,
        "stand_ins": bool,
        "keep_removed_days": int,
    },
    "tls": {"certificate": str, "key": str},
    "proxy": {"trusted": str},
    "database": {"host": str, "port": int, "name": str, "user": str, "password": str},
    "devices": {"cameras_port": int, "kit_port": int},
    "machines": {"address": str, "port": int, "allow": list},
}
FROM_ENVIRONMENT = {
    "OTREVO_ADDRESS": ("", "address"), "OTREVO_PORT": ("", "port"), "OTREVO_DATA": ("", "data"), "OTREVO_WORKERS": ("", "workers"),
    "OTREVO_DB_HOST": ("database", "host"), "OTREVO_DB_PORT": ("database", "port"), "OTREVO_DB_NAME": ("database", "name"),
    "OTREVO_DB_USER": ("database", "user"), "OTREVO_DB_PASSWORD": ("database", "password"),
}  # fmt: skip
MOST_WORKERS = 64


@dataclass(frozen=True)
class Configuration:
    """address and port: where pages are served; hosts: names people type; tls: certificate and key, or empty; proxy: the address
    of a proxy that does TLS, or ""; database: an existing PostgreSQL, or None for one of our own; devices: ports of real ones;
    machines: where workers on other machines reach the database, and from which networks.
    """

    data: Path
    address: str = "127.0.0.1"
    port: int = 8470
    hosts: tuple = ()
    workers: int = 2
    stand_ins: bool = False
    tls: dict = field(default_factory=dict)
    proxy: str = ""
    database: dict | None = None
    devices: dict = field(default_factory=dict)
    machines: dict = field(default_factory=dict)
    keep_removed_days: int = 14

    @property
    def scheme(self):
        return "https" if self.tls else "http"

    @property
    def own_address(self):
        """Where this machine reaches it itself."""
        return "127.0.0.1" if self.address in ("0.0.0.0", "::") else self.address

    def environment(self):
        """What the parts are told through theirs."""
        out = {
            "OTREVO_HOSTS": ",".join([*self.hosts, self.own_address]),
            "OTREVO_KEEP_REMOVED_DAYS": str(self.keep_removed_days),
        }
        if self.machines:
            out |= {"OTREVO_MACHINES_ADDRESS": self.machines["address"], "OTREVO_MACHINES_PORT": str(self.machines["port"]),
                    "OTREVO_MACHINES_SSLMODE": "require" if self.tls else "prefer"}  # fmt: skip
        if self.tls or self.proxy:
            out["OTREVO_TLS"] = "1"
        if self.proxy:
            out["OTREVO_PROXY"] = "1"
        for name, value in (self.database or {}).items():
            out[f"OTREVO_DB_{name.upper()}"] = str(value)
        for name, value in self.devices.items():
            out[f"OTREVO_{name.upper()}"] = str(value)
        return out

    def web_words(self):
        """More words for the web server's command."""
        words = ["--host", self.address]
        if self.tls:
            words += ["--certificate", self.tls["certificate"], "--key", self.tls["key"]]
        if self.proxy:
            words += ["--trusted", self.proxy]
        return tuple(words)


def read_configuration(path, environment):
    """The Configuration of a file, or of none, and an environment. Raises LaunchError in one sentence."""
    told = _file(path) if path else {}
    for name, (section, key) in FROM_ENVIRONMENT.items():
        # without a host they are of the database that Otrevo starts itself
        if environment.get(name) and (section != "database" or environment.get("OTREVO_DB_HOST")):
            target = told.setdefault(section, {}) if section else told
            target[key] = environment[name]
    where = Path(path).name if path else "the environment"
    flat = {"": {k: v for k, v in told.items() if not isinstance(v, dict)}} | {
        k: v for k, v in told.items() if isinstance(v, dict)
    }
    for section, values in flat.items():
        if section not in SECTIONS:
            raise LaunchError(
                f"{where}: there is no section [{section}]; expected some of {', '.join(s for s in SECTIONS if s)}."
            )
        for key in values:
            values[key] = _checked(where, section, key, values[key])
    top = flat[""]
    tls = flat.get("tls", {})
    if tls and set(tls) != {"certificate", "key"}:
        raise LaunchError(f"{where}: [tls] needs both certificate and key.")
    for name, file in tls.items():
        if not Path(file).is_file():
            raise LaunchError(f"{where}: the {name} {file} is not there.")
    if not 0 < top.get("port", 8470) < 65536 or not 0 <= top.get("workers", 2) <= MOST_WORKERS:
        raise LaunchError(f"{where}: expected a port from 1 to 65535 and 0 to {MOST_WORKERS} workers.")
    database = flat.get("database")
    if database is not None and not {"host", "name", "user"} <= set(database):
        raise LaunchError(
            f"{where}: [database] needs host, name and user at least; leave it out for a database of Otrevo's own."
        )
    return Configuration(
        machines=_machines(where, flat.get("machines"), database), keep_removed_days=top.get("keep_removed_days", 14),
        data=Path(top.get("data", HOME / ".otrevo-production")).resolve(), address=top.get("address", "127.0.0.1"),
        port=top.get("port", 8470), hosts=tuple(top.get("hosts", ())), workers=top.get("workers", 2),
        stand_ins=top.get("stand_ins", False), tls=tls, proxy=flat.get("proxy", {}).get("trusted", ""), database=database,
        devices=flat.get("devices", {}),
    )  # fmt: skip


def _machines(where, told, database):
    """What is said of other machines, complete; {} where nothing is."""
    if told is None:
        return {}
    if database is not None:
        raise LaunchError(f"{where}: [machines] is for Otrevo's own database; let workers into yours yourself.")
    if "address" not in told or not told.get("allow"):
        raise LaunchError(f"{where}: [machines] needs address and allow, a list of networks such as 10.0.0.0/24.")
    for network in (told["address"], *told["allow"]):
        try:
            ip_network(network)
        except ValueError:
            raise LaunchError(
                f"{where}: {network!r} in [machines] is not an address or a network such as 10.0.0.0/24."
            ) from None
    return {"port": 8472} | told


def _file(path):
    try:
        return tomllib.loads(Path(path).read_text())
    except OSError as error:
        raise LaunchError(f"{path}: cannot be read ({error.strerror}); expected a TOML file.") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise LaunchError(f"{Path(path).name}: this is not TOML ({error}).") from None


def _checked(where, section, key, value):
    kinds = SECTIONS[section]
    place = f"[{section}] {key}" if section else key
    if key not in kinds:
        raise LaunchError(f"{where}: there is no setting {place}; expected some of {', '.join(kinds)}.")
    if kinds[key] is int and isinstance(value, str):  # of the environment
        value = int(value) if value.isdigit() else value
    if not isinstance(value, kinds[key]) or (kinds[key] is int and isinstance(value, bool)):
        words = {str: "a text", int: "a whole number", list: "a list of names", bool: "true or false"}
        raise LaunchError(f"{where}: {place} is {value!r}; expected {words[kinds[key]]}.")
    return value
