"""Django's command line for Otrevo: `python -m otrevo.server.manage <command>`."""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    execute_from_command_line(sys.argv)
