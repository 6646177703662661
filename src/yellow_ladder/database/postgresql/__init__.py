"""PostgreSQL behind the port: asked through its driver, dumped and loaded by its own programs."""
