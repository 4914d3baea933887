"""One thing typed wrong in a photograph's match that edges, seven surveyed spots, a height and a
length hold: whether it is named; the reference is what was planted."""

import json
import sys
import time
from collections.abc import Iterator

from aperture.match.solve import solve
from tests.core.test_mistakes import blamed, surveyed

REPETITIONS = 25


def mistakes(data: dict) -> Iterator[tuple[str, dict, set[str]]]:
    """(what it is, document, ids that may be named). The length runs from the origin to a spot that
    nothing else places: either may be wrong."""

    def copy() -> tuple[dict, dict]:
        other = json.loads(json.dumps(data))
        return other, {item["id"]: item for item in other["marks"] + other["facts"]}

    wrong, by_id = copy()
    by_id["s2"]["world"][0] *= -1
    yield "a sign", wrong, {"s2"}
    wrong, by_id = copy()
    by_id["s3"]["world"][1:] = by_id["s3"]["world"][:0:-1]
    yield "axes exchanged", wrong, {"s3"}
    wrong, by_id = copy()
    by_id["h"]["metres"] *= 0.1
    yield "a height ten times less", wrong, {"h"}
    wrong, by_id = copy()
    length = data["facts"][0]["id"]
    by_id[length]["metres"] *= 100
    yield "a length in cm", wrong, {length, "origin"}


def report(repetitions: int = REPETITIONS) -> None:
    """Print how often it is named, with nothing else beside it, and how long the answer takes."""
    count = named = alarms = 0
    began = time.perf_counter()
    for seed in range(repetitions):
        data = surveyed(seed)
        alarms += blamed(solve(data).document) != []
        for what, wrong, ids in mistakes(data):
            found = blamed(solve(wrong).document)
            count += 1
            right = len(found) == 1 and found[0] is not None and set(found[0]) == ids
            named += right
            if not right:
                print(f"  {seed}, {what}: {found}")
    seconds = (time.perf_counter() - began) / (count + repetitions)
    print(
        f"\nOne thing typed wrong in a photograph's match: named alone in {named / count:.1%} of"
        f" {count}; something is named where all is right in {alarms} of {repetitions};"
        f" {seconds:.1f} s a document"
    )


if __name__ == "__main__":
    report(int(sys.argv[1]) if len(sys.argv) > 1 else REPETITIONS)
