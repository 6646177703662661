"""One module a format of settings files, or a family of them; `kinds.py` lists them and recognises a file's."""
