"""What happens to an installation in the course of years: a second site, on which looking finds something."""

from __future__ import annotations

from pathlib import Path

# Stands in for a language runtime: all that is asked of it here is its version.
_RUNTIME = """\
#!/bin/sh
# A stand-in for the language runtime that Quaybook's scripts run on.
echo "harbour-script {version} (built for the harbour office)"
"""
RUNTIME_NOW, RUNTIME_LATER = "3.8.2", "3.11.4"

SITE_FILE_MORE = """
[runtime]
name = "harbour-script"
command = ["runtime/harbour-script", "--version"]

[[checks]]
name = "open invoices"
query = "SELECT count(*) FROM invoices WHERE issued > '2030-01-01'"
wanted = "0"
remedy = "finish the office's end-of-day run"
"""


def install_runtime(folder: Path, version: str) -> None:
    """Put the stand-in runtime of a version in place."""
    program = folder / "runtime" / "harbour-script"
    program.parent.mkdir(exist_ok=True)
    program.write_text(_RUNTIME.format(version=version))
    program.chmod(0o755)


def add_troubles(folder: Path, root: Path) -> None:
    """An edit of a core file, a left-over of 2.2, an add-on that will not fit, a foreign folder, a switch left on."""
    install_runtime(folder, RUNTIME_NOW)
    queries = root / "quaybook" / "queries.py"
    queries.write_text(queries.read_text() + "\n# The office asked for this in spring.\nOFFICE_HOURS = (8, 16)\n")
    (root / "quaybook" / "fax.py").write_bytes((_MORE / "2.2" / "quaybook" / "fax.py").read_bytes())
    addon = root / "addons" / "berth-map"
    addon.mkdir()
    (addon / "addon.toml").write_text('name = "Berth map"\nversion = "1.3"\nworks_with = ">=2.2,<3"\n')
    (addon / "map.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"/>\n')
    webcam = root / "webcam"
    webcam.mkdir()
    for number in range(3):
        (webcam / f"mole-{number}.txt").write_text(f"view {number} of the north mole\n")
    settings = root / "etc" / "quaybook.ini"
    text = settings.read_text().replace("[database]", "debug = yes\n\n[database]")
    settings.write_text(text.replace("language = en", "language = da"))  # 3.0 makes it en-GB


def mend_troubles(folder: Path, root: Path) -> None:
    """What an administrator does about them; the runtime stays as it is."""
    (root / "quaybook" / "fax.py").unlink()
    (root / "webcam").rename(folder / "webcam")
    (root / "addons" / "berth-map").rename(folder / "berth-map-1.3")
    site_file = folder / "ladder.toml"
    text = site_file.read_text().replace("[keep]\n", '[keep]\nedited = "replace"\n')
    decided = '{ file = "etc/quaybook.ini", keys = { "harbour.language" = "mine" } }'
    site_file.write_text(text.replace('{ file = "etc/quaybook.ini" }', decided))


_MORE = Path(__file__).parent / "quaybook" / "more"
