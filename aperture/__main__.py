"""The command line: `python -m aperture solve CASE.json ...` and `python -m aperture schema match`."""

import argparse
import json
import sys
from pathlib import Path

from aperture.match.document import InvalidDocument, loads, schema
from aperture.match.solve import solve


def main(arguments=None) -> int:
    """Run one command; 0 where it was carried out, 2 where a document or the call is not valid."""
    parser = argparse.ArgumentParser(prog="python -m aperture")
    commands = parser.add_subparsers(dest="command", required=True)
    solving = commands.add_parser("solve", help="one fit a line (JSON Lines), in the order given; - reads standard input")
    solving.add_argument("cases", nargs="+", metavar="CASE.json")
    showing = commands.add_parser("schema", help="print a JSON Schema")
    showing.add_argument("which", choices=["match"])
    options = parser.parse_args(arguments)
    if options.command == "schema":
        print(json.dumps(schema(), indent=2))
        return 0
    status = 0
    for case in options.cases:
        try:
            text = sys.stdin.buffer.read() if case == "-" else Path(case).read_bytes()
            fit = solve(loads(text))
        except OSError as error:
            print(f"{case}: can't be read: {error.strerror}", file=sys.stderr)
            status = 2
        except InvalidDocument as error:
            print(f"{case}: {error.place or '/'}: {error.sentence}", file=sys.stderr)
            status = 2
        else:
            print(json.dumps(fit.document, allow_nan=False))
    return status


if __name__ == "__main__":
    sys.exit(main())
