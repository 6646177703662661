"""MariaDB and its kin behind the port: asked through a driver, dumped and loaded by its own programs."""
