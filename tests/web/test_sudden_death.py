"""A server that is killed loses nothing that was saved."""

import http.cookiejar
import json
import re
import tempfile
import urllib.request
from unittest import TestCase

from bench.server import Server

PAGE = "/shows/the-lantern-tide/LT020/match"


class SuddenDeath(TestCase):
    def test_what_was_saved_is_there_after_a_kill(self):
        spot = [{"id": "s1", "kind": "spot", "at": [12.5, 34.5]}]
        with tempfile.TemporaryDirectory() as folder:
            with Server(folder) as server:
                opener = urllib.request.build_opener(
                    urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
                )
                page = opener.open(server.address + PAGE).read().decode()
                base = int(re.search('id="revision">(\\d+)<', page)[1])
                headers = {
                    "X-CSRFToken": re.search('name="csrf" content="([^"]+)"', page)[1],
                    "Content-Type": "application/json",
                }
                for path in ("/save", "/preview"):  # saved, and then a drag that was under way
                    body = json.dumps(
                        {"marks": spot if path == "/save" else [], "base": base, "label": "Spot"}
                    ).encode()
                    opener.open(
                        urllib.request.Request(server.address + PAGE + path, body, headers)
                    ).close()
                server.kill()
            with Server(folder) as again:
                state = json.load(urllib.request.urlopen(again.address + PAGE + "/state"))
        self.assertEqual(state["marks"], spot)
