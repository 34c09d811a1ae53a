"""The web server as a process: `python -m otrevo.server.web.process --host H --port N [--certificate F --key F] [--trusted A]`."""

import argparse
import os

import uvicorn

from otrevo.server.web.protocol import Protocol

MOST_CONNECTIONS = 1000
MOST_SOCKET_BYTES = 64 * 1024  # pages send next to nothing over it


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--certificate")
    parser.add_argument("--key")
    parser.add_argument("--trusted", help="address of a proxy whose word about the sender is believed")
    told = parser.parse_args()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    os.environ["OTREVO_DB_POOL"] = "1"  # signing in to the database anew takes longer than most answers
    import django

    django.setup()
    from otrevo.server.logs import JsonLines
    from otrevo.server.web.access_log import keep_access_log

    keep_access_log(JsonLines())
    uvicorn.run(
        "otrevo.server.asgi:application", host=told.host, port=told.port, http=Protocol, access_log=False, log_config=None, server_header=False,
        limit_concurrency=MOST_CONNECTIONS, ws_max_size=MOST_SOCKET_BYTES, timeout_graceful_shutdown=5,
        ssl_certfile=told.certificate, ssl_keyfile=told.key,
        proxy_headers=bool(told.trusted), forwarded_allow_ips=told.trusted,
    )  # fmt: skip


if __name__ == "__main__":
    main()
