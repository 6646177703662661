"""The lists of steps up and down, in order. What a step does stands in works."""
