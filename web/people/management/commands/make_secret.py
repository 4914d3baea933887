"""`manage.py make_secret`: a secret key in the data folder, for a server that others reach."""

import os
import secrets

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError


class Command(BaseCommand):
    """Makes it where there is none; an existing one stays, as sessions depend on it."""

    help = __doc__
    requires_system_checks: list = []  # they would ask for the key

    def handle(self, **_):
        """Write it, readable for its owner only."""
        path = settings.DATA / "secret-key"
        try:
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            raise CommandError("There is a secret key already.") from None
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(50))
        self.stdout.write("The secret key is in the data folder.")
