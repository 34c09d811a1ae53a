"""A worker: takes up runs that a lost worker left behind, then works through the queue until told to stop."""

import os
import sys

import django


def main():
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from django.core.management import call_command

    from otrevo.server.bench.jobs import requeue_lost
    from otrevo.server.stage.jobs import requeue_lost_steps

    if "--first" in sys.argv:
        requeue_lost()
        requeue_lost_steps()
    call_command("procrastinate", "worker", "--concurrency", "1")


if __name__ == "__main__":
    main()
