"""A climb: prepared while the site serves, frozen as a plan, run with a journal; then it goes back or is settled."""
