"""The runner of steps: begin on disk, do, done on disk."""
