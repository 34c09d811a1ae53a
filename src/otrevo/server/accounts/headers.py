"""Content security policy: everything from our own origin, styles inline because styled-components writes them.

The access log is told here too who asked.
"""

from asgiref.sync import iscoroutinefunction, markcoroutinefunction

POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
    "font-src 'self' data:; connect-src 'self' blob:; worker-src 'self' blob:; object-src 'none'; base-uri 'self'; "
    "frame-ancestors 'none'; form-action 'self'"
)


class _Policy:
    async_capable = sync_capable = True

    def __init__(self, get_response):
        self.get_response = get_response
        if iscoroutinefunction(get_response):
            markcoroutinefunction(self)

    def __call__(self, request):
        if iscoroutinefunction(self):
            return self._later(request)
        return self._mark(request, self.get_response(request))

    async def _later(self, request):
        return self._mark(request, await self.get_response(request))

    @staticmethod
    def _mark(request, response):
        user = getattr(request, "_cached_user", None)  # only where somebody has asked for it
        if user is not None and hasattr(request, "scope"):
            request.scope["otrevo.user"] = user.get_username()
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response


def content_security_policy(get_response):
    return _Policy(get_response)
