"""Fingerprints of data: taken before and after, judged against what the releases declare."""
