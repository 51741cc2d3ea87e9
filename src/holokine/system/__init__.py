"""From meshed parts to matrices: degrees of freedom, constraints, sparse K, M and C, and checks of them."""
