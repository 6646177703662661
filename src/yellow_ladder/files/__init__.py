"""Files: entries and lists of them, trees as they are walked and compared, copying."""
