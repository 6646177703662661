"""What steps do: each may be repeated after a kill, with the same result. A module for each kind of step's work."""
