"""`manage.py backup FOLDER`: a consistent copy of the running installation, database and files."""

from pathlib import Path

from django.core.management.base import BaseCommand, CommandError

from aperture.errors import Problem
from web.people.backup import backup


class Command(BaseCommand):
    """A consistent copy of the running installation, database and files."""

    help = __doc__

    def add_arguments(self, parser):
        """Where the copy lies."""
        parser.add_argument("folder", type=Path)

    def handle(self, folder, **_):
        """Do it, and say how much it was."""
        try:
            count = backup(folder)
        except Problem as problem:
            raise CommandError(problem.sentence) from None
        self.stdout.write(f"{count} files are in the copy.")
