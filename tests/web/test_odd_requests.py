"""Whatever is typed into whatever form, and whatever a script sends: a sentence, never a failure of
the server."""

import copy
import json
import re
from html.parser import HTMLParser
from urllib.parse import quote, urljoin

from django.db import transaction
from django.test import Client, TestCase
from django.urls import URLPattern, get_resolver
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.web.matched import Matched

HOME = "/shows/tide/LT901/"
PAGES = ("plate", "gate", "match", "set", "set?leaf=cameras", "set?leaf=plate", "set?kind=block")
PAGES += (
    "elements",
    "line-up",
    "hand-off",
    "settings",
    "match/mark/e1",
    "match/mark/o",
    "gate/claims",
    "gate?add=crop",
)
PAGES += ("/", "/shows/tide/", "/shows/tide/settings", "/shows/tide/cameras", "/catalogue/")
PAGES += ("expose", "expose/white", "expose/focus", "expose/blur", "expose/look")
PAGES += ("/catalogue/body/new", "/catalogue/lens/new", "/catalogue/database?q=50mm")
TYPED = st.text(max_size=12) | st.sampled_from(
    "0 -1 1e999 nan inf 9e99999 ١٢ 5± ±5 1/0 50% '1\"2 24000/1001 4:3 \0 off null {} ../..".split(
        " "
    )
    + ["9" * 400, "9" * 5000, "x" * 5000, "\ud800", "1 + + 2", "5 ft 1/0 in"]
)
ASKED = "revision item through leaf kind native render returned grid q sort".split()
SENT = (
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text(max_size=5)
    | st.sampled_from([10**400, [], {}, [[]], "\ud800", [None, None], {"id": {}}])
)
MESSAGES = {
    "match/save": {
        "marks": [
            {"id": "e1", "kind": "edge", "axis": "up", "points": [[1, 2], [3, 400]]},
            {"id": "s1", "kind": "spot", "at": [5, 6], "world": [0, None, 1]},
        ],
        "label": "Marks",
        "aids": {"floor": True, "person": [1, 2]},
    },
    "match/refine": {"ids": ["e1"]},
    "match/state": {"aids": {}, "straight": True},
    "match/place": {"name": "Door", "at": [5, 6]},
    "match/beside": {"draft": "First", "aids": {}},
    "set/drag": {"id": "b1", "handle": "move", "at": [900, 800], "snap": True, "done": True},
    "set/place": {"at": [900, 800], "kind": "box", "typed": {"width": "1", "height": "1"}},
    "set/plan": {"corners": [[0, 0], [1, 0], [1, 1]], "kind": "block", "height": "1 m"},
    "gate/guides": {"frames": [{"aspect": "2.39", "opacity": 0.5, "colour": "#000000"}]},
    "undo": {"base": 1},
    "expose/meter": {"box": [300, 300, 400, 400], "surface": "grey"},
    "expose/pair": {"box": [300, 300, 400, 400], "id": ""},
    "expose/white/patch": {"box": [300, 300, 400, 400]},
    "expose/focus/at": {"at": [900, 800]},
    "expose/blur/streak": {"at": [900, 800]},
    "/shows/tide/cut/do": {"base": 0, "verb": "slip", "id": "k1", "by": 1, "to": 0, "frame": 2},
}
MESSAGES["match/preview"] = MESSAGES["match/save"]


# What may stand in an address where a show, a shot, a number or a name is meant.
IN_ADDRESS = ["tide", "LT901", "e1", "o", "1", "0", "-1", "99999999999999999999", "../..", "%00"]
IN_ADDRESS += ["é", "x" * 300, "elements", "wear", "hidden", "height", "none", "render.png"]
METHODS = ("get", "post", "put", "delete", "head", "options", "patch")


def routes(patterns=None, before=""):
    """The templates of all addresses."""
    for pattern in get_resolver().url_patterns if patterns is None else patterns:
        route = before + str(pattern.pattern)
        if isinstance(pattern, URLPattern):
            yield route
        else:
            yield from routes(pattern.url_patterns, route)


class Forms(HTMLParser):
    """`found`: (address, fields) of every form of a page that is posted."""

    def __init__(self, page, address):
        super().__init__()
        self.address, self.found, self.fields = address, [], None
        self.feed(page)

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        to = given.get("hx-post") or (given.get("method") == "post" and given.get("action", ""))
        if tag == "form" and to is not False and to is not None:
            self.fields = {}
            self.found.append((urljoin(self.address, to), self.fields))
        elif tag in ("input", "select", "textarea") and self.fields is not None:
            if given.get("name") and given.get("type") != "file":
                self.fields.setdefault(given["name"], given.get("value") or "")

    def handle_endtag(self, tag):
        if tag == "form":
            self.fields = None


def places(value, path=()):
    """The paths to everything within a message."""
    yield path
    inside = (
        value.items()
        if isinstance(value, dict)
        else enumerate(value)
        if isinstance(value, list)
        else ()
    )
    for key, part in inside:
        yield from places(part, (*path, key))


class OddRequests(Matched, TestCase):
    def setUp(self):
        super().setUp()
        self.place((0.0, 0.0, 0.5), name="Crate")
        self.client.raise_request_exception = False
        self.plain = Client(raise_request_exception=False)  # adds nothing to what is sent

    def answered(self, method, address, sent, client=None, **how):
        """Every request meets the same shot: what it changed is taken back."""
        with transaction.atomic():
            answer = getattr(client or self.client, method)(address, sent, **how)
            transaction.set_rollback(True)
        self.assertLess(answer.status_code, 500, (address, sent))

    def test_every_form(self):
        forms = []
        for page in PAGES:
            forms += Forms(
                self.client.get(urljoin(HOME, page)).content.decode(), urljoin(HOME, page)
            ).found
        forms = [form for form in forms if form[1] and "elements" not in form[0]]
        self.assertGreater(len(forms), 40)

        @examples(300)
        @given(st.data())
        def typed(data):
            address, fields = data.draw(st.sampled_from(forms))
            odd = data.draw(st.sets(st.sampled_from(sorted(fields)), min_size=1, max_size=3))
            fields = fields | {name: data.draw(TYPED) for name in odd}
            fields = {k: v.encode("utf8", "replace").decode() for k, v in fields.items()}
            headers = {"HX-Request": "true"} if data.draw(st.booleans()) else {}
            self.answered("post", address, fields, headers=headers)

        typed()

    def test_every_message(self):
        base = self.shot().head.number

        @examples(300)
        @given(st.data())
        def sent(data):
            name = data.draw(st.sampled_from(sorted(MESSAGES)))
            message = {"base": base} | copy.deepcopy(MESSAGES[name])
            path = data.draw(st.sampled_from(list(places(message))))
            odd = data.draw(SENT)
            if path:
                place = message
                for key in path[:-1]:
                    place = place[key]
                place[path[-1]] = odd
            else:
                message = odd
            address = urljoin(HOME, name)
            self.answered("post", address, json.dumps(message), content_type="application/json")

        sent()

    def test_every_address(self):
        @examples(150)
        @given(st.sampled_from(PAGES), st.sampled_from(ASKED), TYPED)
        def asked(page, name, value):
            value = value.encode("utf8", "replace").decode()
            self.answered("get", urljoin(HOME, page.split("?")[0]), {name: value})

        asked()

    def test_every_route(self):
        """Any method, any words in the address, any bytes."""
        # What begins a job would do it here and now, and close the test's own connection.
        known = sorted(
            route for route in set(routes()) if not re.search("elements/|line-up/return", route)
        )
        self.assertGreater(len(known), 100)
        bodies = st.binary(max_size=40) | st.sampled_from([b"", b"{}", b"[]", b"[" * 5000, b"\xff"])
        kinds = st.sampled_from(
            ["application/json", "text/plain", "multipart/form-data; boundary=x"]
        )

        @examples(400)
        @given(st.data())
        def called(data):
            route = data.draw(st.sampled_from(known))
            address = "/" + re.sub(
                r"<(?:\w+:)?(\w+)>",
                lambda found: (
                    {"show": "tide", "shot": "LT901"}.get(found[1], "")
                    if data.draw(st.integers(0, 9)) and found[1] in ("show", "shot")
                    else data.draw(st.sampled_from(IN_ADDRESS))
                ),
                route,
            )
            headers = {"HX-Request": "true"} if data.draw(st.booleans()) else {}
            method = data.draw(st.sampled_from(METHODS))
            sent = data.draw(bodies)
            self.answered(
                method,
                quote(address, safe="/%?"),
                {} if method in ("get", "head") else sent,
                client=self.plain,
                headers=headers,
                **({} if method in ("get", "head") else {"content_type": data.draw(kinds)}),
            )

        called()
