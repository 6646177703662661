"""What steps do: each work may be repeated after a kill with the same result."""
