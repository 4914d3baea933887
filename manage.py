#!/usr/bin/env python3
"""Django's command line."""

import os
import sys
import tempfile

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
    if sys.argv[1:2] == ["test"]:
        # Tests make and remove plates and renders: never among somebody's own, whatever folder is
        # set.
        folder = tempfile.TemporaryDirectory(prefix="aperture-test-")
        os.environ |= {
            "APERTURE_DATA": folder.name,
            "DJANGO_ALLOW_ASYNC_UNSAFE": "1",
            "APERTURE_TASKS": "immediate",
            "APERTURE_LOCAL": "1",
            "APERTURE_LIVE": "0",
        }
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
