"""Settings files: read and changed with their comments kept. A module for each thing that becomes of a key."""
