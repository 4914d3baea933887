"""A move of 1,000 frames out of and into every format, against the bare library with the same
numbers; baking under 20 parents.
"""

import json
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import numpy as np

from aperture.camera import Camera
from aperture.formats import alembic, collada, gltf, moves_in, open_track, recipe, table, usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.hierarchy import Node, bake
from aperture.moves.source import Settings

FRAMES, RATE = 1000, Fraction(24)


def _move():
    grid, lens = Grid.from_gate(1920, 1080, 36, 20.25), Lens(28)
    return {
        n: Camera.at(grid, lens, (0.01 * n, 1.6, 6), 0.001 * n, 0.1) for n in range(1, FRAMES + 1)
    }


def _bare_usd(path, over):
    """The same matrices as time samples of one camera, by usd-core alone."""
    from pxr import Gf, Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(path))
    op = UsdGeom.Camera.Define(stage, "/Camera").AddTransformOp()
    for frame, camera in over.items():
        op.Set(Gf.Matrix4d(*camera.world_from_camera.T.ravel().tolist()), frame)
    stage.GetRootLayer().Save()


def _bare_gltf(path, over):
    """The same numbers as one buffer, by pygltflib alone."""
    import pygltflib as g

    numbers = np.array([camera.world_from_camera for camera in over.values()], np.float32)
    document = g.GLTF2(buffers=[g.Buffer(byteLength=numbers.nbytes)])
    document.set_binary_blob(numbers.tobytes())
    document.save_binary(str(path))


def _bare_collada(path, over):
    """The same matrices as a source of pycollada."""
    import collada as library

    numbers = np.array([camera.world_from_camera for camera in over.values()])
    document = library.Collada()
    places = library.source.FloatSource("m", numbers.ravel(), tuple("ABCDEFGHIJKLMNOP"))
    document.geometries.append(library.geometry.Geometry(document, "g", "g", [places]))
    document.write(str(path))


def _bare_alembic(path, over):
    """The same matrices as samples of one transform, by PyAlembic alone."""
    import imath
    from alembic3d import Abc, AbcGeom

    schema = AbcGeom.OXform(Abc.OArchive(str(path)).getTop(), "m").getSchema()
    for camera in over.values():
        sample = AbcGeom.XformSample()
        sample.setMatrix(imath.M44d(*camera.world_from_camera.T.ravel().tolist()))
        schema.set(sample)


def _bare_json(path, over):
    """The same numbers by Python's json."""
    rows = [camera.world_from_camera.tolist() for camera in over.values()]
    path.write_text(json.dumps(rows))


def _bare_text(path, over):
    """The same numbers by NumPy's savetxt."""
    np.savetxt(path, [camera.world_from_camera.ravel() for camera in over.values()])


def _formats():
    def text(write):
        return lambda path, over: path.write_text(write(over))

    return {
        "m.usda": (lambda path, over: usd.write(path, over[1], {}, path_of_camera=over), _bare_usd),
        "m.usdc": (lambda path, over: usd.write(path, over[1], {}, path_of_camera=over), _bare_usd),
        "m.glb": (lambda path, over: gltf.write(path, over[1], {}, "m", over), _bare_gltf),
        "m.dae": (lambda path, over: collada.write(path, over[1], {}, "m", over), _bare_collada),
        "m.abc": (
            lambda path, over: alembic.write(path, usd.Shown(over[1]), {}, "m", over, RATE),
            _bare_alembic,
        ),
        "m.jsonl": (text(lambda over: open_track.write(over, "m", RATE)), _bare_json),
        "m.csv": (table.write, _bare_text),
        "m.txt": (text(lambda over: recipe.write(over, recipe.Recipe(), RATE)), _bare_text),
    }


def _seconds(function, *args):
    best = []
    for _ in range(3):
        began = time.perf_counter()
        function(*args)
        best.append(time.perf_counter() - began)
    return min(best)


def _times():
    """Seconds to write and to read, and their ratio to writing the same numbers with the bare
    library.
    """
    over = _move()
    print(f"\nFormats: a move of {FRAMES} frames; times the bare library's")
    for name, (write, bare) in _formats().items():
        with tempfile.TemporaryDirectory() as folder:
            path, plain = Path(folder) / name, Path(folder) / f"bare{Path(name).suffix}"

            def written(path=path, write=write):
                path.unlink(missing_ok=True)
                write(path, over)

            def bare_written(plain=plain, bare=bare):
                plain.unlink(missing_ok=True)
                bare(plain, over)

            reference = _seconds(bare_written)
            ours = _seconds(written)
            says = f"  {name:8} written in {ours:6.3f} s, {ours / reference:6.1f} times"
            if path.suffix in moves_in.FORMATS:
                back = _seconds(moves_in.read, path, Settings(), RATE)
                says += f"   read in {back:6.3f} s, {back / reference:6.1f} times"
        print(says)


def _baking(frames=10_000, parents=20):
    """Of matrices that are there, and of a stage, against usd-core's own world transforms."""
    from pxr import Gf, Usd, UsdGeom

    random, eye = np.random.default_rng(1), np.eye(4)
    local = np.tile(eye, (frames, 1, 1))
    local[:, :3, 3] = random.normal(size=(frames, 3))
    chain = [Node(f"n{index}", index - 1 if index else None, local) for index in range(parents + 1)]
    plain = _seconds(bake, chain)
    stage, at = Usd.Stage.CreateInMemory(), ""
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(frames)
    for index in range(parents):
        at += f"/n{index}"
        op = UsdGeom.Xform.Define(stage, at).AddTranslateOp()
        for frame in (1, frames):
            op.Set(Gf.Vec3d(*random.normal(size=3).tolist()), frame)
    camera = UsdGeom.Camera.Define(stage, at + "/eye")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "deep.usdc"
        stage.GetRootLayer().Export(str(path))
        began = time.perf_counter()
        moves_in.read(path, Settings(), RATE)
        ours = time.perf_counter() - began
    began = time.perf_counter()
    for frame in range(1, frames + 1):
        camera.ComputeLocalToWorldTransform(frame)
    theirs = time.perf_counter() - began
    print(
        f"\nBaking {frames} frames under {parents} parents: {plain:.2f} s from matrices; "
        f"from a stage {ours:.2f} s, "
        f"{ours / theirs:.1f} times usd-core's own transforms (wanted under 2 s)"
    )


def report():
    """Both tables."""
    _times()
    _baking()


if __name__ == "__main__":
    report()
