"""Settings files: read and changed with their comments kept."""
