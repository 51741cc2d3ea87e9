"""Nodes, cells and groups: meshing the description and selecting nodes."""

from holokine.mesh.build import build_mesh
from holokine.mesh.mesh import Block, Mesh
from holokine.mesh.select import select_nodes

__all__ = ["Block", "Mesh", "build_mesh", "select_nodes"]
