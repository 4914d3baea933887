"""A client that posts as the pages do, with the revision that is on screen, and reads pages as a
browser does: however many blanks and line ends there are between two words, it is one blank."""

import json
import re

from django.test import Client

from web.shows.models import Shot


class PageClient(Client):
    """Adds the head's number as `base` where a test doesn't name another one, to forms (with their
    prefix) and to messages."""

    def post(self, path, data=None, *given, **more):
        found = re.match(r"/shows/([\w-]+)/(?:cameras/align/)?([\w-]+)", path)
        shot = found and Shot.objects.with_head().filter(show__slug=found[1], code=found[2]).first()
        if shot:
            data = self._with_base(data, shot.head.number)
        return super().post(path, data, *given, **more)

    def request(self, **request):
        response = super().request(**request)
        if not response.streaming and response.get("Content-Type", "").startswith("text/html"):
            response.content = re.sub(rb"\s+", b" ", response.content)
        return response

    @staticmethod
    def _with_base(data, base):
        if isinstance(data, str):
            try:
                message = json.loads(data)
            except ValueError:  # odd on purpose
                return data
            if isinstance(message, dict) and message.get("base") is None:
                message["base"] = base
            return json.dumps(message)
        data = dict(data or {})
        prefixes = {key.rpartition("-")[0] for key in data}
        names = {f"{prefix}-base" if prefix else "base" for prefix in prefixes | {""}}
        return {name: base for name in names} | data
