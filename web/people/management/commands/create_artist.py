"""`manage.py create_artist NAME`: an account, with its password asked for, or read from
APERTURE_PASSWORD."""

import getpass
import os

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError

from web.people.access import LOCAL_ARTIST
from web.people.tickets import log


class Command(BaseCommand):
    """The first account keeps the installation, and leads every show; others do where that is asked
    for."""

    help = __doc__

    def add_arguments(self, parser):
        """The name, and whether it keeps the installation."""
        parser.add_argument("name")
        parser.add_argument("--keeper", action="store_true")

    def handle(self, name, keeper, **_):
        """Make it."""
        if User.objects.filter(username__iexact=name).exists() or name.lower() == LOCAL_ARTIST:
            raise CommandError(f"There is an account {name} already.")
        password = os.environ.get("APERTURE_PASSWORD") or getpass.getpass("Password: ")
        user = User(username=name)
        try:
            user.full_clean(exclude=["password"])
            validate_password(password, user)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        first = not User.objects.exclude(username=LOCAL_ARTIST).exists()
        user.is_superuser = keeper or first
        user.set_password(password)
        user.save()
        log("account", f"{name} was made on the command line")
        self.stdout.write(f"{name} can sign in.")
