"""`python -m demo` builds the demo show where it isn't there yet; the rest of `make demo` starts
the server."""

import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
django.setup()

from demo.show import build  # noqa: E402  (Django first)

if __name__ == "__main__":
    build()
