"""Nodes, cells and groups: meshing the description and selecting nodes."""

from holokine.mesh.build import build_mesh
from holokine.mesh.mesh import Block, Mesh
from holokine.mesh.select import one_node, select_nodes

__all__ = ["Block", "Mesh", "build_mesh", "one_node", "select_nodes"]
