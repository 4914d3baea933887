"""`manage.py restore FOLDER`: a fresh installation from a copy that `backup` made."""

from pathlib import Path

from django.core.management.base import BaseCommand, CommandError

from aperture.errors import Problem
from web.people.backup import restore


class Command(BaseCommand):
    """A fresh installation from a copy that `backup` made."""

    help = __doc__

    def add_arguments(self, parser):
        """Where the copy lies."""
        parser.add_argument("folder", type=Path)

    def handle(self, folder, **_):
        """Do it, and say how much it was."""
        try:
            count = restore(folder)
        except Problem as problem:
            raise CommandError(problem.sentence) from None
        self.stdout.write(
            f"{count} files are there again. Run `manage.py migrate`, then `manage.py"
            " collect_garbage --verify`."
        )
