"""Write the API's OpenAPI description to docs/openapi.json, from which the front end's types are made."""

import json
import os
import sys
from pathlib import Path

import django


def description():
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from otrevo.server.api import api

    return json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True, default=str) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(description())
