"""The command line: `python -m aperture solve CASE.json ...` and `python -m aperture schema match`
(or `match-2`)."""

from __future__ import annotations

import argparse
import json
import sys
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from aperture.match.document import InvalidDocument, loads, schema, unwrapped, version_of
from aperture.match.report import refusal
from aperture.match.solve import solve


def _warm() -> None:
    """Compile all kernels, side by side: each process keeps what it compiles for those that come
    later."""
    from aperture.around import recombine
    from aperture.match import warm as match_warm
    from aperture.moves import flight
    from aperture.path import warm
    from aperture.render import blurred

    # The longest first.
    compiling = (
        warm.compile_solving,
        warm.compile_following,
        blurred.compile_all,
        flight.compile_all,
        recombine.compile_all,
        match_warm.compile_all,
    )
    with ProcessPoolExecutor(mp_context=get_context("spawn")) as pool:
        for done in [pool.submit(one) for one in compiling]:
            done.result()


def main(arguments: list[str] | None = None) -> int:
    """Run one command; 0 where it was carried out, 2 where a document or the call is not valid."""
    parser = argparse.ArgumentParser(prog="python -m aperture")
    commands = parser.add_subparsers(dest="command", required=True)
    solving = commands.add_parser(
        "solve", help="one fit a line (JSON Lines), in the order given; - reads standard input"
    )
    solving.add_argument("cases", nargs="+", metavar="CASE.json")
    showing = commands.add_parser("schema", help="print a JSON Schema")
    showing.add_argument("which", choices=["match", "match-2"])
    commands.add_parser("warm", help="compile what is compiled at its first use")
    options = parser.parse_args(arguments)
    if options.command == "warm":
        _warm()
        return 0
    if options.command == "schema":
        print(json.dumps(schema(2 if options.which == "match-2" else 1), indent=2))
        return 0
    status = 0
    for case in options.cases:
        try:
            text = sys.stdin.buffer.read() if case == "-" else Path(case).read_bytes()
            answer = _answer(unwrapped(loads(text)))
        except OSError as error:
            answer = _not_valid(f"“{case}” can't be read: {error.strerror}.", "")
        except InvalidDocument as error:
            answer = _not_valid(error.sentence, error.place)
        if "at" in answer:
            status = 2
        print(json.dumps(answer, allow_nan=False), flush=True)
    return status


def _answer(document: Any) -> dict[str, Any]:
    """The fit of a picture's document, or of a filmed plate's. Raises InvalidDocument."""
    if version_of(document) == 2:
        from aperture.path.solve import solve as solve_film  # brings a compiler with it

        return solve_film(document).document
    return solve(document).document


def _not_valid(problem: str, place: str) -> dict[str, Any]:
    """The line for a document that isn't one: every document of a batch gets a line."""
    return refusal(problem) | {"at": place or "/"}


if __name__ == "__main__":
    sys.exit(main())
