"""Finds the web servers that serve an application to its users: those whose configuration names its folder."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.files.reading import read_regular

# Where each server has the sites that it serves, below the system's folder of settings.
_SITES = {
    "apache2": ("apache2/sites-enabled/*", "apache2/conf-enabled/*"),
    "httpd": ("httpd/conf.d/*.conf", "httpd/conf/httpd.conf"),
    "nginx": ("nginx/sites-enabled/*", "nginx/conf.d/*.conf", "nginx/nginx.conf"),
    "lighttpd": ("lighttpd/conf-enabled/*", "lighttpd/lighttpd.conf"),
    "caddy": ("caddy/Caddyfile", "caddy/conf.d/*"),
}
_RUN_CODE = ("apache2", "httpd", "lighttpd")
_POOLS = ("php/*/fpm/pool.d/*.conf", "php-fpm.d/*.conf")
_LARGEST_BYTES = 1024 * 1024
_POOL = re.compile(r"(php[\d.]*-fpm)")
_SOCKET = re.compile(r"(?m)^\s*listen\s*=\s*(\S+)")


@dataclass(frozen=True, slots=True)
class Served:
    """A web server's file that names the application, the server's unit, and those that run the application's code."""

    file: str
    unit: str
    runs: tuple[str, ...] = ()

    @property
    def units(self) -> tuple[str, ...]:
        """What runs the application's code: where nothing else does, the server itself, if it is one that can."""
        return self.runs or ((self.unit,) if self.unit.removesuffix(".service") in _RUN_CODE else ())


def served_by(folders: Iterable[Path], etc: Path) -> list[Served]:
    """Every file of a web server that names one of the folders, or what lies below it."""
    names = re.compile("|".join(rf"(?<![\w./-]){re.escape(str(one))}(?![\w.-])" for one in folders))
    found = []
    for unit, places in _SITES.items():
        for file, text in _texts(etc, places):
            if names.search(text):
                found.append(Served(str(file), f"{unit}.service", tuple(_code_runs_in(text, etc))))
    return found


def _texts(etc: Path, places: Iterable[str]) -> Iterator[tuple[Path, str]]:
    for place in places:
        for file in sorted(etc.glob(place)):
            try:  # the distributions lay links into the folder of what is served
                text = read_regular(file.resolve(), _LARGEST_BYTES, cut=True).decode(errors="replace")
            except OSError:
                continue
            yield file, re.sub(r"(?m)^\s*#.*$", "", text)


def _code_runs_in(text: str, etc: Path) -> Iterator[str]:
    """Units of the pools that a site hands its code to, by the name of their socket or by what they listen on."""
    for name in dict.fromkeys(_POOL.findall(text)):
        yield f"{name}.service"
    for file, pool in _texts(etc, _POOLS):
        socket = _SOCKET.search(pool)
        version = file.relative_to(etc).parts[1] if file.relative_to(etc).parts[0] == "php" else ""
        unit = f"php{version}-fpm.service" if version else "php-fpm.service"
        if socket and re.search(rf"(?<![\w./-]){re.escape(socket[1])}(?![\w.-])", text) and unit[:-8] not in text:
            yield unit
