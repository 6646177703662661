"""Other shapes that Quaybook comes in: an environment per release behind a link, a folder shared with a program."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

from yellow_ladder.demo.build import SOURCES, build_environments
from yellow_ladder.files.archives.unpack import Limits, unpack_archive

SHAPES = ("plain", "environment", "shared")
SYSTEM_RUNTIME = "/usr/bin/python3"
SECRET_NAME, SECRET = "QUAYBOOK_PIN", "four-and-twenty-lanterns"

ENVIRONMENT_SITE = """\
# The harbour office's berth-booking server, each release in a folder of its own. See docs/site-file.md.
format = 1
name = "harbour"
product = "quaybook"
root = "quaybook"
placement = "pointer" # quaybook/current leads to the release in use

[pointer]
link = "current"
releases = "releases/{{version}}"

[releases]
source = "releases"
digests = "required"

[[versions]]
of = "disk"
link = "current"

[[versions]]
of = "disk"
part = "program"
command = ["{{release}}/env/bin/python", "-B", "{{release}}/manage.py", "version"]
pattern = 'quaybook (\\S+)'

[[versions]]
of = "served"
url = "http://127.0.0.1:{port}/about.json"
pointer = "/version"

[[versions]]
of = "schema"
query = "SELECT value FROM meta WHERE name = 'schema'"

[[runtimes]]
command = ["{runtime}", "--version"]

[environment]
files = ["quaybook.env"]
values = {{ QUAYBOOK_HOME = "{{root}}", QUAYBOOK_SETTINGS = "etc/quaybook.ini", QUAYBOOK_KEY = "etc/secret.key" }}

[[databases]]
url = "sqlite:///quaybook/data/quaybook.sqlite"
volatile = ["logins"] # written at every start

[keep]
settings = [{{ file = "etc/quaybook.ini" }}]
data = ["data", "uploads", "lamps"]
keys = ["etc/secret.key"]

[[services]]
name = "web"
kind = "process"
run = ["{{release}}/env/bin/python", "-B", "{{release}}/server.py"]
ports = [{port}]
pid_file = "run/web.pid"
log = "run/web.log"
ready = {{ url = "http://127.0.0.1:{port}/about.json", within_s = 20 }}

[maintenance]
flag = "quaybook/data/closed"
closed = {{ url = "http://127.0.0.1:{port}/" }}
message = "The harbour office is moving to a newer Quaybook and is back shortly."
"""


def runtime_program() -> str:
    """The runtime that environments are made with: the system's where it has one, which every account may run."""
    return SYSTEM_RUNTIME if Path(SYSTEM_RUNTIME).exists() else sys.executable


def install_environment(folder: Path, root: Path, *, broken: bool) -> None:
    """Install Quaybook 2.4 with an environment of its own behind a link."""
    packed = build_environments(folder / "releases", broken=broken)
    release = root / "releases" / "2.4"
    release.mkdir(parents=True)
    unpack_archive(packed[0].archive, release, Limits())
    made = [runtime_program(), "-m", "venv", "--without-pip", str(release / "env")]
    subprocess.run(made, check=True, stdin=subprocess.DEVNULL)
    (root / "current").symlink_to("releases/2.4")
    for place in ("static", "addons"):
        (root / place).mkdir()
    shutil.copytree(SOURCES / "2.4" / "etc", root / "etc")
    (root / "lamps").mkdir()
    for month in range(1, 7):
        lines = [
            f"2025-{month:02d}-{day:02d} lamp-{day % 7} {'lit' if day % 5 else 'dark, bulb changed'}"
            for day in range(1, 29)
        ]
        (root / "lamps" / f"2025-{month:02d}.txt").write_text("\n".join(lines) + "\n")
    secrets = folder / "quaybook.env"
    secrets.touch(mode=0o600)
    secrets.write_text(f"# Read by every service and command of the harbour's.\n{SECRET_NAME}={SECRET}\n")


def share_with_another(root: Path) -> None:
    """Put a second program into the folder, which is none of Quaybook's business."""
    other = root / "tidewatch"
    for number in range(12):
        place = other / "readings" / f"{number + 1:02d}.csv"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text("hour,level_cm\n" + "".join(f"{hour},{(hour * 37 + number) % 410}\n" for hour in range(24)))
    (other / "tidewatch.py").write_text('"""Tidewatch, which lives in the same folder."""\n')
    shutil.copystat(root / "server.py", other / "tidewatch.py")
