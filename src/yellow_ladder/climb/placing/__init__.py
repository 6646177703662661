"""How new files come in, by the kinds of placement; each is a class behind `port`."""
