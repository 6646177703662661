"""Sites and the built program, for every test that needs them."""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import subprocess
import sys
import tempfile
import uuid
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import psutil
import psycopg
import pytest
from hypothesis import settings
from psycopg.sql import SQL, Identifier, Literal

from tests.going_on import begin, leave_out, passed_before, pytest_runtest_logreport, pytest_sessionfinish  # noqa: F401  hooks
from tests.laws import examples
from tests.warm import PROGRAM_CALL, Answer, WarmProcess
from yellow_ladder.demo import build, prepare, shapes
from yellow_ladder.demo.build import build_releases
from yellow_ladder.demo.prepare import DemoSite, Place, free_port, prepare_demo, start_site, stop_site
from yellow_ladder.demo.servers import USER, PrivateServer, make_server, missing_programs, remove_server
from yellow_ladder.demo.shapes import SECRET
from yellow_ladder.errors import LadderError
from yellow_ladder.release.pack import Packed
from yellow_ladder.site.site import Site, load_site

# Laws are about what comes out, not about how fast a busy machine is.
settings.register_profile("house", deadline=None, max_examples=examples(100))
settings.load_profile("house")


MEMORY = Path("/dev/shm")
MEMORY_NEEDED_BYTES = 4 << 30
LONGEST = ("test_a_climb_killed_anywhere", "test_a_link_that_takes_a_places_name")
OF_THE_MACHINE = "games"  # an account that every machine has, and that owns nothing
_IN_MEMORY = pytest.StashKey[Path]()


def pytest_configure(config: pytest.Config) -> None:
    """One seed for all workers of a run: it chooses the instants at which the program is killed."""
    os.environ.setdefault("YELLOW_LADDER_SEED", secrets.token_hex(4))
    begin()
    if "TMPDIR" not in os.environ and is_fit_for_tests(MEMORY):
        folder = Path(tempfile.mkdtemp(prefix="yl-", dir=MEMORY))
        folder.chmod(0o1777)  # as the usual one: accounts of their own reach their folders through it
        config.stash[_IN_MEMORY] = folder
        os.environ["TMPDIR"], tempfile.tempdir = str(folder), None


def pytest_unconfigure(config: pytest.Config) -> None:
    """What lay in memory goes with the run; set TMPDIR to keep it."""
    folder = config.stash.get(_IN_MEMORY, None)
    if folder is not None:
        shutil.rmtree(folder, ignore_errors=True)


def is_fit_for_tests(folder: Path) -> bool:
    """Whether a folder in memory has the room and the attributes that tests need.

    Thousands of sites are made and thrown away; with a slow disk beneath, a run takes twice as long.
    """
    if not folder.is_dir() or shutil.disk_usage(folder).free < MEMORY_NEEDED_BYTES:
        return False
    with tempfile.NamedTemporaryFile(dir=folder) as file, contextlib.suppress(OSError):
        os.setxattr(file.name, "user.of-tests", b"kept")
        return True
    return False


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """The longest first, so that no worker is left alone with them at the end."""
    leave_out(config, items)
    items.sort(key=lambda item: not any(one in item.nodeid for one in LONGEST))


def pytest_report_header(config: pytest.Config) -> str:
    return f"seed of the kill points: YELLOW_LADDER_SEED={os.environ['YELLOW_LADDER_SEED']}"


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """How many kill points there are, and how many of them were tried."""
    there: dict[str, int] = {}
    tried: dict[str, int] = {}
    before = list(passed_before())
    if before:
        terminalreporter.line(f"{len(before):,} tests passed before, on the same files, and were not run again")
    for recorded in [
        *(each for _, each in before),
        *(one.user_properties for one in terminalreporter.getreports("passed")),
    ]:
        for name, value in recorded:
            if name == "kill points":
                mode, points, count = value
                there[mode], tried[mode] = points, tried.get(mode, 0) + count
    if there:
        seed = os.environ["YELLOW_LADDER_SEED"]
        total, done = sum(there.values()), sum(tried.values())
        terminalreporter.section("killed at any instant")
        for mode in there:
            terminalreporter.line(f"{mode}: {tried[mode]:,} of {there[mode]:,} kill points")
        terminalreporter.line(f"{done:,} of {total:,} kill points in {len(there)} modes; YELLOW_LADDER_SEED={seed}")


PROGRAM = Path(sys.executable).parent / "yl"


_WARM: list[WarmProcess] = []


def warm() -> WarmProcess:
    """The process of this test run that has the program loaded."""
    if not _WARM:
        _WARM.append(WarmProcess())
    return _WARM[0]


@pytest.fixture(scope="session", autouse=True)
def _warm_process() -> Iterator[None]:
    yield
    for one in _WARM:
        one.end()
    _WARM.clear()


def run_program(
    *words: object, folder: Path, anew: bool = False, environment: Mapping[str, str] | None = None
) -> Answer:
    """Run the program to its end; `anew`: the built one as it is installed, started from nothing."""
    env = {**os.environ, "COLUMNS": "120", **(environment or {})}
    if not (anew or os.environ.get("YELLOW_LADDER_START_ANEW")):
        return warm().call(PROGRAM_CALL, [*map(str, words)], folder, env, 120)
    done = subprocess.run(
        [str(PROGRAM), *map(str, words)], cwd=folder, env=env, capture_output=True, text=True, timeout=120, check=False,
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    return Answer(done.returncode, done.stdout, done.stderr)


@dataclass
class Demo:
    """A demonstration site in a folder of its own, and the program to be run in it."""

    prepared: DemoSite

    @property
    def folder(self) -> Path:
        return self.prepared.folder

    @property
    def root(self) -> Path:
        return self.folder / "quaybook"

    @property
    def database(self) -> Path:
        return self.root / "data" / "quaybook.sqlite"

    def site(self) -> Site:
        return load_site(self.prepared.file, under_way=True)

    def yl(self, *words: object, **environment: str) -> Answer:
        return self._without_secrets(run_program(*words, folder=self.folder, environment=environment))

    def yl_anew(self, *words: object) -> Answer:
        return self._without_secrets(run_program(*words, folder=self.folder, anew=True))

    @property
    def secrets(self) -> list[str]:
        """What of the site may be told nowhere: its environment file's value, and its database's password."""
        server = self.prepared.server
        return [SECRET, *([server.password] if server else ())]

    def _without_secrets(self, answer: Answer) -> Answer:
        for secret in self.secrets:
            assert secret not in answer.out + answer.err, "a secret is told"
        return answer

    def see_that_no_secret_is_kept(self) -> None:
        """Look through the state folder, its journals and reports, and at the words of every process."""
        secrets = [one.encode() for one in self.secrets]
        for path in (self.folder / ".ladder").rglob("*"):
            if path.is_file() and not path.is_symlink():
                held = path.read_bytes()
                assert not any(one in held for one in secrets), f"a secret is kept in {path}"
        for pid in psutil.pids():
            with contextlib.suppress(OSError):
                words = Path(f"/proc/{pid}/cmdline").read_bytes()
                assert not any(one in words for one in secrets), f"a secret is in the words of process {pid}"

    def json(self, *words: object, code: int = 0) -> Any:
        answer = self.yl(*words, "--json")
        assert answer.code == code, answer.out + answer.err
        assert answer.document["exit"] == code
        return answer.document["result"]

    def edit(self, old: str, new: str) -> None:
        text = self.prepared.file.read_text()
        assert old in text, old
        self.prepared.file.write_text(text.replace(old, new))


MakeDemo = Callable[..., Demo]


def built_once(made_by: Callable[..., list[Packed]], kept: Path) -> Callable[..., list[Packed]]:
    """The same releases, built at the first call and copied at the others: hundreds of tests begin with them."""
    made: dict[tuple[tuple[str, object], ...], tuple[Path, list[Packed]]] = {}

    def copied(into: Path, **wishes: object) -> list[Packed]:
        key = tuple(sorted(wishes.items()))
        if key not in made:
            folder = kept / f"{made_by.__name__}-{len(made)}"
            made[key] = (folder, made_by(folder, **wishes))
        folder, packed = made[key]
        shutil.copytree(folder, into, dirs_exist_ok=True)
        return [replace(one, archive=into / one.archive.name) for one in packed]

    return copied


@pytest.fixture(scope="session", autouse=True)
def releases_built_once(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Demonstrations that tests prepare share the releases' archives; `yl demo` itself builds them each time."""
    kept = tmp_path_factory.mktemp("built")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(prepare, "build_releases", built_once(build.build_releases, kept))
        patch.setattr(shapes, "build_environments", built_once(build.build_environments, kept))
        yield


@pytest.fixture
def make_demo(tmp_path: Path) -> Iterator[MakeDemo]:
    """Make demonstration sites; whatever runs there is stopped at the end."""
    made: list[tuple[Demo, Site]] = []

    def make(name: str = "harbour", *, rows: int = 60, start: bool = True, **wishes: Any) -> Demo:
        demo = Demo(prepare_demo(tmp_path / name, rows=rows, **wishes))
        made.append((demo, demo.site()))
        if start:
            start_site(demo.site())
        return demo

    yield make
    try:
        for demo, _ in made:
            demo.see_that_no_secret_is_kept()
    finally:
        for demo, site in made:
            with contextlib.suppress(LadderError):  # a test may have left a site file that cannot be read
                site = demo.site()
            stop_site(site)


def need(missing: list[str], what: str) -> None:
    """Skip a test that needs programs which are not installed, unless nothing may be skipped."""
    if missing:
        assert not os.environ.get("YELLOW_LADDER_NEED_SERVERS"), f"{what} needs {missing[0]}"
        pytest.skip(f"{what} needs {missing[0]}, which scripts/servers installs")


@pytest.fixture(scope="session")
def servers() -> Iterator[Callable[[str], PrivateServer]]:
    """Private servers, made when they are first asked for, and gone at the end."""
    made: dict[str, PrivateServer] = {}

    def get(engine: str) -> PrivateServer:
        need(missing_programs(engine), f"a test of {engine}")
        if engine not in made:
            made[engine] = make_server(engine, free_port())
            if engine == "postgresql":
                _let_in_quickly(made[engine])
        return made[engine]

    yield get
    for server in made.values():
        remove_server(server)


def _let_in_quickly(server: PrivateServer) -> None:
    """Passwords are hashed once and not four thousand times: thousands of connections take 7 ms of each side's time."""
    with psycopg.connect(
        host="127.0.0.1", port=server.port, user=USER, password=server.password, dbname="postgres", autocommit=True
    ) as connection:
        connection.execute("SET password_encryption = 'md5'")
        connection.execute(SQL("ALTER ROLE {} PASSWORD {}").format(Identifier(USER), Literal(server.password)))
        rules = Path(server.folder) / "data" / "pg_hba.conf"
        by_account = f"local all {OF_THE_MACHINE},root peer\n"
        rules.write_text(by_account + rules.read_text().replace("scram-sha-256", "md5"))
        Path(server.folder).chmod(0o711)  # its socket lies there
        connection.execute("SELECT pg_reload_conf()")


@pytest.fixture
def engine_demo(make_demo: MakeDemo, servers: Callable[[str], PrivateServer]) -> MakeDemo:
    """Make demonstration sites on an engine, each with a database of its own on a server that tests share."""

    def make(engine: str, name: str = "harbour", **wishes: Any) -> Demo:
        if engine == "sqlite":
            return make_demo(name, **wishes)
        database = f"quaybook_{uuid.uuid4().hex[:10]}"
        return make_demo(name, place=Place(engine, servers(engine), database), **wishes)

    return make


@pytest.fixture
def demo(make_demo: MakeDemo) -> Demo:
    """One site, serving."""
    return make_demo()


@pytest.fixture
def idle(make_demo: MakeDemo) -> Demo:
    """One site whose service does not run: enough where nothing is served."""
    return make_demo(start=False)


@pytest.fixture(scope="session")
def packed_releases(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Quaybook's releases, packed."""
    folder = tmp_path_factory.mktemp("releases")
    build_releases(folder)
    return folder
