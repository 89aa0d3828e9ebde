"""Particle paths on a flow."""

from inkhorn.paths.trace import PathResult, refuse_many_paths, trace
from inkhorn.paths.velocity import FaceVelocities, face_velocities

__all__ = ["FaceVelocities", "PathResult", "face_velocities", "refuse_many_paths", "trace"]
