"""Matrices from elsewhere, in place of a mesh."""

from holokine.describe.fields import FileName, Strict

__all__ = ["Matrices"]


class Matrices(Strict):
    """Stiffness, mass (and damping) as Matrix Market or NPZ files, in SI, with a table of nodes and directions.

    `dofs` is a CSV table, one row per row of the matrices: ``node,direction,x_m,y_m,z_m`` (node: a number or
    name, direction: x y z rx ry rz).
    """

    stiffness: FileName
    mass: FileName
    damping: FileName | None = None
    dofs: FileName
