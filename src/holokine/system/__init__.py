"""From meshed parts to matrices: degrees of freedom, constraints, sparse K, M and C, and checks of them."""

from holokine.system.build import System, build_system

__all__ = ["System", "build_system"]
