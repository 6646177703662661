"""Never a dead end: whichever step fails, in either direction, the message names a command, and that command works."""

from __future__ import annotations

import os
import random
import re
import shutil
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from yellow_ladder.climb import conduct
from yellow_ladder.climb.conduct import Conditions, begin, descend, go_on
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import list_climbs, open_climb
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import Facts, Run, Step, utc_now
from yellow_ladder.climb.works.proofs import DATA_DIFFER
from yellow_ladder.demo.prepare import prepare_demo
from yellow_ladder.demo.proof import Picture, picture_of
from yellow_ladder.errors import AnswerNo, LadderError, Problem, StoppedPartWay
from yellow_ladder.events import silent
from yellow_ladder.site.site import Site, load_site

COMMAND = re.compile(r"`yl (climb --continue|descend)`")


class Failing:
    """Fails one step, once: before it does anything, or when it has done all; and counts the steps there are."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, direction: str, code: str = "made-to-fail") -> None:
        self.at, self.when, self.code, self.failed, self.count = -1, "before", code, "", 0
        name = f"steps_{direction}"
        listed: Callable[..., list[Step]] = getattr(conduct, name)
        monkeypatch.setattr(conduct, name, lambda *words: self._wrapped(listed(*words)))

    def _wrapped(self, steps: list[Step]) -> list[Step]:
        self.count = len(steps)
        return [replace(step, do=self._do(number, step)) for number, step in enumerate(steps)]

    def _do(self, number: int, step: Step) -> Callable[[Run], Facts]:
        def do(run: Run) -> Facts:
            if number != self.at or self.failed:
                return step.do(run)
            self.failed = str(step.name)
            if self.when == "after":
                step.do(run)
            raise AnswerNo(Problem(self.code, "made to fail", "nothing: it was made to", str(step.name)))

        return do


@pytest.fixture(scope="module")
def pristine(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("way-out") / "pristine"
    demo = prepare_demo(folder, rows=20)
    text = demo.file.read_text()
    head, _, rest = text.partition("[[services]]")
    before, _, after = head.partition('[[versions]]\nof = "served"')
    demo.file.write_text(before + after[after.index("[[versions]]") :] + "[" + rest.partition("\n[")[2])
    return folder


@pytest.fixture
def fresh(pristine: Path, tmp_path: Path) -> Callable[[], Site]:
    def make() -> Site:
        shutil.rmtree(tmp_path / "site", ignore_errors=True)
        shutil.copytree(pristine, tmp_path / "site", symlinks=True)
        return load_site(tmp_path / "site" / "ladder.toml", under_way=True)

    return make


def planned(site: Site) -> object:
    return stage_climb(look_ahead(site, None, utc_now()), utc_now(), silent)


def way_out(site: Site, stopped: LadderError) -> str:
    """Follow the first command that the message names; returns it."""
    named = COMMAND.findall(" ".join(problem.remedy for problem in stopped.problems))
    assert named, f"no command is named: {stopped.problems}"
    climb = open_climb(site)
    assert climb is not None
    (go_on if named[0].startswith("climb") else descend)(climb.plan, Conditions())
    return str(named[0])


def walked(failing: Failing, work: Callable[[], object]) -> Iterator[LadderError | None]:
    """Fail at every step in turn, before and after it; gives what was said. A usual run takes a third of them, others
    each time.
    """
    failing.at = -1
    work()
    instants = [(number, when) for number in range(failing.count) for when in ("before", "after")]
    if not os.environ.get("YELLOW_LADDER_SWEEP"):
        instants = random.Random(os.environ.get("YELLOW_LADDER_SEED")).sample(instants, len(instants) // 3)
    for number, when in instants:
        failing.at, failing.when, failing.failed = number, when, ""
        try:
            work()
        except LadderError as fault:
            assert failing.failed
            yield fault
        else:
            yield None


@pytest.mark.parametrize("on_failure", ["go-back", "stop"])
def test_going_up_every_failure_has_a_way_out(
    on_failure: str, fresh: Callable[[], Site], monkeypatch: pytest.MonkeyPatch
) -> None:
    before: Picture = picture_of(fresh())
    failing = Failing(monkeypatch, "up")
    sites: list[Site] = []

    def climb() -> None:
        site = fresh()
        file = site.file
        file.write_text(file.read_text().replace('root = "', f'on_failure = "{on_failure}"\nroot = "', 1))
        sites.append(load_site(file))
        begin(planned(sites[-1]), Conditions())  # type: ignore[arg-type]

    for said in walked(failing, climb):
        site = sites[-1]
        state = list_climbs(site)[-1].standing.state
        if not state.is_open:
            assert isinstance(said, AnswerNo)
            assert state in (ClimbState.DESCENDED, ClimbState.GIVEN_UP), failing.failed
            assert picture_of(site) == before, failing.failed
            continue
        assert isinstance(said, StoppedPartWay), failing.failed
        assert way_out(site, said) == "climb --continue"
        assert list_climbs(site)[-1].standing.state is ClimbState.CLIMBED, failing.failed
        assert not (site.root / "data" / "closed").exists(), failing.failed


@pytest.mark.parametrize("code", ["made-to-fail", DATA_DIFFER])
def test_going_back_every_failure_has_a_way_out(
    code: str, fresh: Callable[[], Site], monkeypatch: pytest.MonkeyPatch
) -> None:
    before: Picture = picture_of(fresh())
    failing = Failing(monkeypatch, "down", code)
    sites: list[Site] = []

    def there_and_back() -> None:
        sites.append(fresh())
        failing.at, at = -1, failing.at
        begin(planned(sites[-1]), Conditions())  # type: ignore[arg-type]
        failing.at = at
        descend(list_climbs(sites[-1])[-1].plan, Conditions())

    for said in walked(failing, there_and_back):
        site = sites[-1]
        if said is not None:
            assert isinstance(said, StoppedPartWay), failing.failed
            assert way_out(site, said) == "descend"
        assert list_climbs(site)[-1].standing.state is ClimbState.DESCENDED, failing.failed
        assert picture_of(site) == before, failing.failed
        assert not (site.root / "data" / "closed").exists(), failing.failed
