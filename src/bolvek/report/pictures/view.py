"""Where a picture is taken from, and where a model is cut open."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats


@dataclass(frozen=True)
class View:
    """An orthographic view: unit vectors to the right, up and towards the eye."""

    right: Floats
    up: Floats
    eye: Floats

    @classmethod
    def from_eye(cls, eye: Floats) -> "View":
        """Looking from a direction, z upward in the picture."""
        eye = np.asarray(eye, np.float64) / np.linalg.norm(eye)
        above = np.array([0.0, 0.0, 1.0]) if abs(eye[2]) < 0.99 else np.array([0.0, 1.0, 0.0])
        right = np.cross(above, eye)
        right /= np.linalg.norm(right)
        return cls(right, np.cross(eye, right), eye)

    @classmethod
    def three_quarter(cls, azimuth_deg: float = -62.0, elevation_deg: float = 16.0) -> "View":
        """From the front right, a little above; azimuth is measured from +x towards +y."""
        a, e = np.radians(azimuth_deg), np.radians(elevation_deg)
        return cls.from_eye(np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)]))

    def project(self, points: Floats) -> Floats:
        """Points (P, 3) as right, up, towards the eye, in mm."""
        return np.asarray(points @ np.stack([self.right, self.up, self.eye], axis=1))


@dataclass(frozen=True)
class CutPlane:
    """Material on the positive side of normal @ x - offset is taken away."""

    normal: Floats
    offset: float

    def value(self, points: Floats) -> Floats:
        """Signed distance (P,) in mm."""
        return np.asarray(points @ self.normal - self.offset)

    def view(self) -> View:
        """Looking into the cut, a little from the side and from above."""
        side = np.cross(np.array([0.0, 0.0, 1.0]), self.normal)
        return View.from_eye(self.normal + 0.22 * side + np.array([0.0, 0.0, 0.16]))


def cut_through(bounds: Floats, places: list[tuple[float, float, float]]) -> CutPlane:
    """An upright plane through the first and last place (drains), else across the thin way."""
    size, middle = bounds[1] - bounds[0], bounds.mean(axis=0)
    thin = 0 if size[0] < size[1] else 1
    normal = np.eye(3)[thin] * (-1.0 if thin == 1 else 1.0)
    through = np.array(places).mean(axis=0) if places else middle
    if len(places) > 1:
        along = np.subtract(places[-1], places[0])
        across = np.cross(along, [0.0, 0.0, 1.0])
        if np.linalg.norm(across) > 0.12 * size.max():
            across /= np.linalg.norm(across)
            across = across if across @ normal >= 0 else -across
            if across @ normal > 0.7:
                normal = across
    # a hair off the exact plane, so that it runs through no vertex of a symmetric model
    return CutPlane(normal, float(normal @ through) + 1e-4 * float(size.max()))
