"""The assembly at rest: equilibrium under loads, one-way supports, stiffness from stress, buckling."""
