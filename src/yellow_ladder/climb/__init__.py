"""A climb: prepared while the site serves, frozen as a plan, run with a journal, taken back or accepted."""
