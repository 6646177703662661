"""Commands of vendors and sites: run, watched and judged, whatever they do."""
