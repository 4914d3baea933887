"""The exported camera and stand-ins, rendered by VTK, lie where our own render has them. VTK shares
no code with it, and takes both from the USD file."""

import tempfile
from fractions import Fraction
from pathlib import Path
from unittest import TestCase

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401 (registers the window)
from pxr import Usd, UsdGeom
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkCommonMath import vtkMatrix4x4
from vtkmodules.vtkFiltersCore import vtkTriangleFilter
from vtkmodules.vtkRenderingCore import (
    vtkActor,
    vtkPolyDataMapper,
    vtkRenderer,
    vtkRenderWindow,
    vtkWindowToImageFilter,
)

from aperture.camera import Camera
from aperture.formats import moves_in, usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.moves.source import Settings
from aperture.render import offsets
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from aperture.scene.stand_in import StandIn

ITEMS = {
    "Crate": StandIn((1.2, 0.9, 0.7), (0.2, 0, 0.8), 0.3),
    "Bollard": StandIn((0.5, 1.6, 0.5), (2.2, 0, 0.5), kind="cylinder"),
    "Steps": StandIn((0.8, 0.7, 0.9), (1.3, 0, 2), -0.4, kind="stairs"),
}
FINER = 8  # times as many pixels each way, averaged: VTK's own edges are hard
SIZE = (480, 270)


def cover_by_vtk(path, frame: float | None = None) -> np.ndarray:
    """(H, W) how much of each pixel the meshes of a stage cover, seen by its camera; on its first
    frame, if none is given."""
    stage, window, scene = Usd.Stage.Open(str(path)), vtkRenderWindow(), vtkRenderer()
    for prim in stage.Traverse():
        if prim.IsA(UsdGeom.Mesh):
            mesh, points, cells = UsdGeom.Mesh(prim), vtkPoints(), vtkCellArray()
            for point in mesh.GetPointsAttr().Get():
                points.InsertNextPoint(*point)
            indices = iter(mesh.GetFaceVertexIndicesAttr().Get())
            for count in mesh.GetFaceVertexCountsAttr().Get():
                cells.InsertNextCell(count, [next(indices) for _ in range(count)])
            data, triangles, mapper, actor = (
                vtkPolyData(),
                vtkTriangleFilter(),
                vtkPolyDataMapper(),
                vtkActor(),
            )
            data.SetPoints(points)
            data.SetPolys(cells)
            triangles.SetInputData(data)
            mapper.SetInputConnection(triangles.GetOutputPort())
            actor.SetMapper(mapper)
            actor.GetProperty().SetColor(1, 1, 1)
            actor.GetProperty().LightingOff()
            scene.AddActor(actor)
    seen = UsdGeom.Camera(
        next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera))
    ).GetCamera(Usd.TimeCode.EarliestTime() if frame is None else Usd.TimeCode(frame))
    camera, matrix, pose = scene.GetActiveCamera(), vtkMatrix4x4(), np.array(seen.transform)
    for row, values in enumerate(
        np.array(seen.frustum.ComputeProjectionMatrix()).T
    ):  # USD's vectors are rows
        for column, value in enumerate(values):
            matrix.SetElement(row, column, value)
    camera.SetPosition(*pose[3, :3])
    camera.SetFocalPoint(*(pose[3, :3] - pose[2, :3]))
    camera.SetViewUp(*pose[1, :3])
    camera.SetExplicitProjectionTransformMatrix(matrix)
    camera.SetUseExplicitProjectionTransformMatrix(True)
    window.SetOffScreenRendering(1)
    window.SetMultiSamples(0)
    window.SetSize(SIZE[0] * FINER, SIZE[1] * FINER)
    window.AddRenderer(scene)
    window.Render()
    picture = vtkWindowToImageFilter()
    picture.SetInput(window)
    picture.Update()
    values = vtk_to_numpy(picture.GetOutput().GetPointData().GetScalars())[:, 0].reshape(
        SIZE[1] * FINER, SIZE[0] * FINER
    )[::-1]
    return (values > 127).reshape(SIZE[1], FINER, SIZE[0], FINER).mean(axis=(1, 3))


class AnotherRenderer(TestCase):
    def test_outlines_agree(self):
        pose = ((3, 1.7, 6), 0.4, -0.12, 0.03)
        for name, gate, lens in (
            ("plain", (36, 20.25), Lens(24)),
            ("off centre", (36, 20.25), Lens(24, centre_mm=(3.0, -1.5))),
            ("squeezed", (18, 20.25), Lens(24, 2.0)),
        ):
            camera = Camera.at(Grid.from_gate(*SIZE, *gate), lens, *pose)
            with tempfile.TemporaryDirectory() as folder:
                usd.write(Path(folder) / "a.usda", camera, ITEMS, "Z")
                theirs = cover_by_vtk(Path(folder) / "a.usda")
            found = offsets.measure(
                theirs,
                render(
                    camera,
                    [(item, Look(label)) for label, item in ITEMS.items()],
                    Wanted(samples=FINER),
                ).rgba[..., 3],
            )
            self.assertGreater(len(found.at), 100)
            self.assertLess(found.most, 0.1, name)
            self.assertLess(np.hypot(*found.shift), 0.01, name)

    def test_outlines_agree_over_a_move(self):
        """Five frames of a camera that goes, turns and zooms; the second time after the move was
        brought in again."""
        grid = Grid.from_gate(*SIZE, 36, 20.25)
        over = {
            frame: Camera.at(
                grid,
                Lens(24 + 2 * n, centre_mm=(1.5, -1)),
                (3 - 0.5 * n, 1.7 + 0.1 * n, 6 - 0.3 * n),
                0.4 - 0.09 * n,
                -0.12,
                0.03 * n,
            )
            for n, frame in enumerate(range(1001, 1006))
        }
        looks = [(item, Look(label)) for label, item in ITEMS.items()]
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.usdc"
            usd.write(path, over[1001], ITEMS, "Z", path_of_camera=over)
            back = moves_in.read(path, Settings(), Fraction(24)).move.on(grid)
            again = Path(folder) / "b.usda"
            usd.write(again, back.at(1001), ITEMS, path_of_camera={f: back.at(f) for f in over})
            for frame, camera in over.items():
                ours = render(camera, looks, Wanted(samples=FINER)).rgba[..., 3]
                for file in (path, again):
                    found = offsets.measure(cover_by_vtk(file, frame), ours)
                    self.assertGreater(len(found.at), 100)
                    self.assertLess(found.most, 0.1, (file.name, frame))
