"""Yellow Ladder: takes an installation from one version to the next, in place, and proves that nothing was lost."""

__version__ = "0.1.0"
