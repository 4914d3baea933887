"""Somebody who draws true things of the world on a plate, with a hand that isn't quite steady."""

import numpy as np

DRAWN_SIGMA_PX = 0.4


class Artist:
    """Draws true things of the world on a plate, with a hand that is DRAWN_SIGMA_PX unsteady."""

    def __init__(self, camera, seed: int = 7):
        self.camera, self.rng = camera, np.random.default_rng(seed)

    def at(self, points) -> list:
        """Where the points of the world (N, 3) are clicked, px."""
        return np.round(
            self.camera.project(points) + self.rng.normal(size=(len(points), 2)) * DRAWN_SIGMA_PX, 2
        ).tolist()

    def edges(self, edges, points: int = 2) -> list[dict]:
        """Edges with so many points each."""
        return [
            {
                "id": f"e{index}",
                "kind": "edge",
                "name": name,
                "axis": axis,
                "points": self.along(start, end, points),
                "sigma_px": 0.5,
            }
            for index, (name, axis, start, end) in enumerate(edges, 1)
        ]

    def along(self, start, end, points: int) -> list:
        """Points drawn from one place of the world to another, as far as the picture shows what
        lies between."""
        share = np.linspace(0, 1, 200)[:, None]
        line = np.array(start) * (1 - share) + np.array(end) * share
        at = self.camera.project(line)
        seen = line[
            (at > 5).all(axis=1)
            & (at < (self.camera.grid.width - 5, self.camera.grid.height - 5)).all(axis=1)
        ]
        return self.at(seen[np.linspace(0, len(seen) - 1, points).astype(int)])

    def bows(self, bows) -> list[dict]:
        """Bows along straight things."""
        return [
            {
                "id": f"b{index}",
                "kind": "bow",
                "name": name,
                "points": self.along(start, end, points),
                "sigma_px": 0.5,
            }
            for index, (name, start, end, points) in enumerate(bows, 1)
        ]

    def spot(self, id_: str, name: str, point, **more) -> dict:
        """A spot where a point of the world is seen."""
        return {
            "id": id_,
            "kind": "spot",
            "name": name,
            "at": self.at([point])[0],
            "sigma_px": 0.5,
        } | more
