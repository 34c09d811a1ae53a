"""Answers in JSON are sent compressed to who asks for it; samples and files are not: they hardly get smaller."""

from django.middleware.gzip import GZipMiddleware


class PackedAnswers(GZipMiddleware):
    """Django's own, which also guards against guessing secrets by the length of an answer."""

    def process_response(self, request, response):
        if response.get("Content-Type", "").startswith("application/json"):
            return super().process_response(request, response)
        return response
