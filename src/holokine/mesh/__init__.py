"""Nodes, cells and groups: meshing the description and selecting nodes."""
