"""Write the API's OpenAPI description to docs/openapi.json, from which the front end's types are made.

The messages of the web socket are in it as schemas, though no route gives them.
"""

import json
import os
import sys
from pathlib import Path

import django
from pydantic.json_schema import models_json_schema

COMPONENT = "#/components/schemas/{model}"


def description():
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from otrevo.server.api import api
    from otrevo.server.live.messages import MESSAGES

    described = api.get_openapi_schema()
    _, messages = models_json_schema([(m, "serialization") for m in MESSAGES], ref_template=COMPONENT)
    described["components"]["schemas"] |= messages["$defs"]
    return json.dumps(described, indent=1, sort_keys=True, default=str) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(description())
