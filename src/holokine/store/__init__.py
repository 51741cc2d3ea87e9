"""Results by stage and key: in memory, and in run files with the description that they came from."""
