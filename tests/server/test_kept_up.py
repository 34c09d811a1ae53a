"""What is made from the code and kept in the repository is what the code would make now."""

import json

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase

from otrevo.server.openapi import description


class KeptUp(TestCase):
    def test_migrations(self):
        call_command("makemigrations", check=True, dry_run=True, verbosity=0)  # exits where one is missing

    def test_description_of_the_api(self):
        kept = json.loads((settings.HOME / "docs" / "openapi.json").read_text())
        self.assertEqual(json.loads(description()), kept, "make it again; see docs/development.md")
