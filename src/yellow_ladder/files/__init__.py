"""Files: entries, lists of them, trees as they are walked, compared, copied. A module for each way through a tree."""
