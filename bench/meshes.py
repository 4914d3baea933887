"""How long a mesh of more than a million faces takes to come in, and to be kept; the reference is
trimesh's own reading of the same bytes."""

import io
import tempfile
import time
from pathlib import Path


def report() -> None:
    """Print seconds, seconds per megabyte and the ratio for each kind of file."""
    import numpy as np
    import trimesh

    from aperture.formats import meshes

    ball = trimesh.creation.icosphere(8)
    for ending in ("ply", "stl", "obj", "glb"):
        data = ball.export(file_type=ending)
        data = data.encode() if isinstance(data, str) else data
        began = time.perf_counter()
        trimesh.load(io.BytesIO(data), file_type=ending, force="mesh", process=False)
        bare = time.perf_counter() - began
        began = time.perf_counter()
        found = meshes.read(data, ending)
        with tempfile.TemporaryDirectory() as folder:
            np.savez_compressed(
                Path(folder) / "mesh.npz",
                vertices=found.vertices,
                triangles=found.triangles.astype(np.int32),
            )
        took = time.perf_counter() - began
        print(
            f"{ending}: {len(found.triangles):,} faces, {len(data) / 1e6:.0f} MB in {took:.1f} s,"
            f" {took / len(data) * 1e6:.2f} s/MB; {took / bare:.1f} x trimesh's reading alone"
        )


if __name__ == "__main__":
    report()
