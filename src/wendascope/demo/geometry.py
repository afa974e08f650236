"""Meshes and matrices of the depot. A mesh is float32 vertices (n, 8: position, normal, uv) and uint32 indices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Matrix = npt.NDArray[np.float32]


@dataclass
class Mesh:
    vertices: npt.NDArray[np.float32]
    indices: npt.NDArray[np.uint32]

    def moved(self, matrix: Matrix) -> Mesh:
        """The mesh in another place, normals included; the matrix may scale each axis."""
        linear = matrix[:3, :3]
        vertices = self.vertices.copy()
        vertices[:, :3] = vertices[:, :3] @ linear.T + matrix[:3, 3]
        normals = vertices[:, 3:6] @ np.linalg.inv(linear)
        vertices[:, 3:6] = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-6)
        return Mesh(vertices, self.indices)


def merged(meshes: list[Mesh]) -> Mesh:
    """All meshes as one."""
    offsets = np.cumsum([0] + [len(m.vertices) for m in meshes[:-1]])
    indices = [m.indices + np.uint32(o) for m, o in zip(meshes, offsets, strict=True)]
    return Mesh(np.concatenate([m.vertices for m in meshes]), np.concatenate(indices).astype(np.uint32))


def box() -> Mesh:
    """A cube from -1 to 1."""
    faces = []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            normal = np.zeros(3)
            normal[axis] = sign
            u, v = np.roll(np.eye(3), axis + 1, axis=0)[0], np.zeros(3)
            u = np.zeros(3)
            u[(axis + 1) % 3] = 1.0
            v[(axis + 2) % 3] = sign
            corners = [(-1, -1), (1, -1), (1, 1), (-1, 1)]
            faces.append([[*(normal + a * u + b * v), *normal, (a + 1) / 2, (b + 1) / 2] for a, b in corners])
    vertices = np.array(faces, np.float32).reshape(-1, 8)
    quad = np.array([0, 1, 2, 0, 2, 3], np.uint32)
    return Mesh(vertices, np.concatenate([quad + 4 * f for f in range(6)]).astype(np.uint32))


def quad() -> Mesh:
    """A unit square in x and y, facing z."""
    corners = [(-1, -1), (1, -1), (1, 1), (-1, 1)]
    vertices = [[x, y, 0, 0, 0, 1, (x + 1) / 2, (y + 1) / 2] for x, y in corners]
    return Mesh(np.array(vertices, np.float32), np.array([0, 1, 2, 0, 2, 3], np.uint32))


def cylinder(sides: int, caps: bool = True) -> Mesh:
    """Radius 1 about the y axis, from -1 to 1."""
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    ring = np.stack([np.cos(angle), np.zeros(sides + 1), np.sin(angle)], 1)
    rows = []
    for y, v in ((-1.0, 0.0), (1.0, 1.0)):
        place = ring + [0, y, 0]
        rows.append(np.concatenate([place, ring, np.stack([angle / (2 * np.pi), np.full(sides + 1, v)], 1)], 1))
    vertices = [np.concatenate(rows)]
    i = np.arange(sides)
    n = sides + 1
    indices = [np.stack([i, i + n, i + 1, i + 1, i + n, i + n + 1], 1).ravel()]
    base = 2 * n
    for y in (-1.0, 1.0) if caps else ():
        cap = np.concatenate([ring[:-1] + [0, y, 0], np.tile([0, y, 0], (sides, 1)), ring[:-1][:, [0, 2]] / 2 + 0.5], 1)
        vertices.append(cap)
        fan = np.stack([np.zeros(sides - 2), np.arange(1, sides - 1), np.arange(2, sides)], 1).astype(int)
        indices.append((fan if y < 0 else fan[:, ::-1]).ravel() + base)
        base += sides
    return Mesh(np.concatenate(vertices).astype(np.float32), np.concatenate(indices).astype(np.uint32))


def stones(count: int, width: float, length: float, seed: int) -> Mesh:
    """Ballast: small rough stones of 20 triangles each, strewn over a bed."""
    random = np.random.default_rng(seed)
    t = (1 + 5**0.5) / 2
    corners = np.array(
        [
            [-1, t, 0],
            [1, t, 0],
            [-1, -t, 0],
            [1, -t, 0],
            [0, -1, t],
            [0, 1, t],
            [0, -1, -t],
            [0, 1, -t],
            [t, 0, -1],
            [t, 0, 1],
            [-t, 0, -1],
            [-t, 0, 1],
        ]
    )
    faces = np.array(
        [
            [0, 11, 5],
            [0, 5, 1],
            [0, 1, 7],
            [0, 7, 10],
            [0, 10, 11],
            [1, 5, 9],
            [5, 11, 4],
            [11, 10, 2],
            [10, 7, 6],
            [7, 1, 8],
            [3, 9, 4],
            [3, 4, 2],
            [3, 2, 6],
            [3, 6, 8],
            [3, 8, 9],
            [4, 9, 5],
            [2, 4, 11],
            [6, 2, 10],
            [8, 6, 7],
            [9, 8, 1],
        ]
    )
    corners = corners / np.linalg.norm(corners[0])
    size = random.uniform(0.03, 0.06, (count, 1, 1))
    rough = random.uniform(0.75, 1.1, (count, 12, 1))
    place = np.stack(
        [random.uniform(-width, width, count), random.uniform(0, 0.05, count), random.uniform(-length, length, count)],
        1,
    )
    points = corners[None] * rough * size + place[:, None]
    normals = np.broadcast_to(corners[None], points.shape)
    uv = np.broadcast_to(random.uniform(0, 1, (count, 1, 2)), (count, 12, 2))
    vertices = np.concatenate([points, normals, uv], 2).reshape(-1, 8).round(3)
    indices = faces[None] + 12 * np.arange(count)[:, None, None]
    return Mesh(vertices.astype(np.float32), indices.reshape(-1).astype(np.uint32))


# ---- matrices: row-major here, sent transposed -----------------------------------------------------


def place(x: float, y: float, z: float, sx: float = 1.0, sy: float = 1.0, sz: float = 1.0, turn: float = 0.0) -> Matrix:
    """Scale, turn about y (radians), then move."""
    c, s = np.cos(turn), np.sin(turn)
    matrix = np.array([[c * sx, 0, s * sz, x], [0, sy, 0, y], [-s * sx, 0, c * sz, z], [0, 0, 0, 1]])
    return matrix.astype(np.float32)


def perspective(degrees: float, aspect: float, near: float, far: float) -> Matrix:
    """A projection with a vertical angle in degrees, shape (4, 4)."""
    f = 1 / np.tan(np.radians(degrees) / 2)
    return np.array(
        [
            [f / aspect, 0, 0, 0],
            [0, f, 0, 0],
            [0, 0, (far + near) / (near - far), 2 * far * near / (near - far)],
            [0, 0, -1, 0],
        ],
        np.float32,
    )


def orthographic(half: float, near: float, far: float) -> Matrix:
    """A projection of a cube of side 2 `half`, shape (4, 4)."""
    return np.array(
        [
            [1 / half, 0, 0, 0],
            [0, 1 / half, 0, 0],
            [0, 0, -2 / (far - near), -(far + near) / (far - near)],
            [0, 0, 0, 1],
        ],
        np.float32,
    )


def look_at(eye: tuple[float, float, float], at: tuple[float, float, float]) -> Matrix:
    """The view from `eye` towards `at`, z up, shape (4, 4)."""
    e = np.array(eye, np.float64)
    forward = np.array(at) - e
    forward /= np.linalg.norm(forward)
    side = np.cross(forward, [0, 1, 0])
    side /= np.linalg.norm(side)
    up = np.cross(side, forward)
    matrix = np.eye(4)
    matrix[0, :3], matrix[1, :3], matrix[2, :3] = side, up, -forward
    matrix[:3, 3] = -matrix[:3, :3] @ e
    return matrix.astype(np.float32)
