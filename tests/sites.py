"""The beginning of site files and sheets of small sites that tests write by hand."""

from __future__ import annotations

HEAD = """format = 1
name = "berths"
product = "quaybook"
root = "app"
[releases]
source = "releases"
[[versions]]
of = "disk"
file = "VERSION"
"""
SHEET = 'format = 1\n[release]\nproduct = "quaybook"\nversion = "{}"\n'
