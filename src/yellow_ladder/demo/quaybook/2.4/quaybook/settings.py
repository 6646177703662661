"""Settings from an INI file."""

import configparser

from quaybook import queries


class Settings:
    """The settings file, read once at the start."""

    def __init__(self, path):
        self.parser = configparser.ConfigParser(interpolation=None)
        with path.open() as stream:
            self.parser.read_file(stream)

    def address(self):
        return self.parser["server"]["host"], self.parser["server"].getint("port")

    def database_url(self, root):
        return self.parser["database"]["url"].replace("{root}", str(root))

    def harbour_name(self):
        return self.parser["harbour"][queries.HARBOUR_KEY]
