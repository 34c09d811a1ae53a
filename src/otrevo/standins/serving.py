"""How every stand-in is served: a process that listens on one port of loopback until it is ended."""

import asyncio
import hmac
import os
import sys


def may_ask(request):
    """Whether a request has the key of this stage, where there is one: others on this machine shall not move cameras."""
    return hmac.compare_digest(
        str(request.get("key", "")).encode(), os.environ.get("OTREVO_STAGE_KEY", "").encode()
    ) or (not os.environ.get("OTREVO_STAGE_KEY"))


async def _listen(name, serve, port):
    server = await asyncio.start_server(serve, "127.0.0.1", port, limit=1 << 20)
    print(f"{name}: stand-in listens on 127.0.0.1:{port}", file=sys.stderr, flush=True)
    async with server:
        await server.serve_forever()


def run(name, serve):
    """Serve on the port that the command line says; serve(reader, writer) answers one connection."""
    try:
        asyncio.run(_listen(name, serve, int(sys.argv[1])))
    except KeyboardInterrupt:
        pass
