"""Element matrices and recovery, vectorised over the elements of a set."""
