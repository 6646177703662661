"""The route breaks no rule, and where any way leads through, it finds a shortest one."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests import archives
from tests.conftest import Demo
from tests.test_archives import repack_without_sheet
from yellow_ladder.errors import AnswerNo, BadInput
from yellow_ladder.release.sheet import ReleaseSheet, parse_sheet
from yellow_ladder.release.source import Release, read_source
from yellow_ladder.release.versions import Version
from yellow_ladder.route import find_route


def release(version: str, reach: str = "", *, stop: bool = False, tool: str = "") -> Release:
    sheet = ReleaseSheet.model_validate({
        "format": 1, "release": {"product": "quaybook", "version": version},
        "reach": {"from": reach, "stop": stop}, "needs": {"tool": tool},
    })  # fmt: skip
    return Release(sheet, Path(f"quaybook-{version}.tar.zst"), "")


def versions(present: str, target: str, releases: list[Release]) -> list[str]:
    return [str(rung.to_version) for rung in find_route(Version(present), Version(target), releases).rungs]


def test_the_fewest_rungs_that_skip_no_stop() -> None:
    offered = [
        release("2.6", ">=2.0,<2.6"), release("2.8", ">=2.0,<2.8"), release("3.0", ">=2.6,<3.0", stop=True),
        release("3.5", ">=2.8,<3.5"), release("4.0", ">=2.8,<4.0"),
    ]  # fmt: skip
    assert versions("2.4", "4.0", offered) == ["2.8", "3.0", "4.0"]
    assert versions("2.4", "2.6", offered) == ["2.6"]


def test_versions_order_by_value_and_not_by_letter() -> None:
    offered = [release("2.9", ">=2.0,<2.9"), release("2.10", ">=2.9,<2.10"), release("2.10.1", ">=2.9,<2.10.1")]
    assert versions("2.4", "2.10.1", offered) == ["2.9", "2.10.1"]
    assert find_route(Version("2.4"), None, [*offered, release("3.0rc1")]).target == Version("2.10.1")


@pytest.mark.parametrize(
    ("target", "offered", "code", "told"),
    [
        ("9", [release("3.0")], "unknown-target", "it has: 3.0"),
        ("1.0", [release("3.0")], "older-target", "yl descend"),
        ("2.4", [release("3.0")], "already-there", "nothing to do"),
        ("3.0", [release("3.0", ">=2.6")], "no-route", "3.0 can only be reached from >=2.6"),
        ("3.0", [release("3.0", tool=">=99")], "no-route", "needs Yellow Ladder >=99"),
    ],
)
def test_where_there_is_no_way_the_reason_is_told(target: str, offered: list[Release], code: str, told: str) -> None:
    with pytest.raises(AnswerNo) as refusal:
        find_route(Version("2.4"), Version(target), offered)
    problem = refusal.value.problems[0]
    assert problem.code == code
    assert told in problem.message + problem.remedy


numbers = st.integers(1, 12)
offers = st.dictionaries(
    st.integers(2, 10), st.tuples(numbers, st.booleans()), min_size=1, max_size=7
)  # version: (lowest start, is a stop)


@given(offer=offers, present=st.integers(1, 5))
def test_the_route_is_as_short_as_brute_force_finds_and_breaks_no_rule(
    offer: dict[int, tuple[int, bool]], present: int
) -> None:
    target = max(offer)
    if target <= present:
        return
    offered = [release(f"{v}.0", f">={low}.0,<{v}.0", stop=stop) for v, (low, stop) in offer.items()]

    def allowed(start: int, end: int) -> bool:
        skips = any(offer[stop][1] for stop in offer if start < stop < end)
        return offer[end][0] <= start < end and not skips

    between = [version for version in sorted(offer) if present < version < target]
    ways = (
        [present, *chosen, target]
        for count in range(len(between) + 1)
        for chosen in itertools.combinations(between, count)
    )
    best = next((way for way in ways if all(itertools.starmap(allowed, itertools.pairwise(way)))), None)
    try:
        found = find_route(Version(f"{present}.0"), Version(f"{target}.0"), offered)
    except AnswerNo:
        assert best is None
        return
    assert best is not None
    steps = [present, *(int(str(rung.to_version)[:-2]) for rung in found.rungs)]
    assert all(itertools.starmap(allowed, itertools.pairwise(steps)))
    assert len(steps) == len(best)


def test_a_plain_archive_with_a_sheet_beside_it_works_as_well(idle: Demo) -> None:
    source = idle.folder / "releases"
    for name in ("2.6", "3.0", "4.0"):
        tree = idle.folder / "unpacked"
        tree.mkdir()
        archive = source / f"quaybook-{name}.tar.zst"
        sheet = repack_without_sheet(archive, source / f"vendor-{name}.tar.gz", tree)
        (source / f"vendor-{name}.release.toml").write_text(sheet)
    idle.edit('digests = "required"', 'digests = "wanted"')
    assert idle.json("climb", "--yes")["proof"]["whole"]
    assert (idle.root / "VERSION").read_text() == "4.0\n"


def test_one_broken_release_does_not_hide_the_others(idle: Demo) -> None:
    source = idle.folder / "releases"
    archives.write(source / "quaybook-5.0.tar.zst", sheet=b"format = 1\n[release]\nproduct = 5\n")
    archives.write(source / "quaybook-5.1.tar.zst", sheet=b"format = [")
    archives.garbage(source / "quaybook-5.2.tar.zst")
    found = read_source(source, "quaybook")
    assert [str(one.version) for one in found.found] == ["2.4", "2.6", "3.0", "4.0"]
    assert {problem.where.split("/")[-1].split("!")[0].split(":")[0] for problem in found.problems} == {
        "quaybook-5.0.tar.zst", "quaybook-5.1.tar.zst", "quaybook-5.2.tar.zst",
    }  # fmt: skip
    assert idle.json("check")["stops"] == 0


BASE = 'format = 1\n[release]\nproduct = "q"\nversion = "3.0"\n'


@pytest.mark.parametrize(
    ("text", "code", "named"),
    [
        (BASE + 'flavour = "x"', "unknown-key", "release.flavour"),
        (BASE + 'channel = "stable"', "key-not-built", "release.channel"),
        (BASE + '[reach]\nfrom = "2 or so"', "wrong-value", "reach.from"),
        (BASE + '[[migrations]]\nid = "a"\nfile = "../x.sql"', "wrong-value", "migrations[0].file"),
        (BASE + '[[migrations]]\nid = "a"\nfile = "x.sql"\n' * 2, "wrong-value", "twice"),
        (BASE.replace('"3.0"', '"three"'), "wrong-value", "release.version"),
        ("format = 1", "missing-key", "release"),
        ("format = 2\n" + BASE[11:], "wrong-value", "format"),
    ],
)
def test_a_wrong_sheet_is_told_by_key(text: str, code: str, named: str) -> None:
    with pytest.raises(BadInput) as refusal:
        parse_sheet(text.encode(), "release.toml")
    assert code in {problem.code for problem in refusal.value.problems}
    assert named in " ".join(problem.message + problem.where for problem in refusal.value.problems)
