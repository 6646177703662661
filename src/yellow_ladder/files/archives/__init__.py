"""Archives: reading those of strangers and of this tool, writing them, unpacking releases."""
