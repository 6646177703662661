"""The route breaks no rule, and where any way leads through, it finds a shortest one."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests import archives
from tests.conftest import Demo
from tests.laws import examples
from tests.test_archives import repack_without_sheet
from yellow_ladder.errors import AnswerNo, BadInput
from yellow_ladder.release.sheet import ReleaseSheet, parse_sheet
from yellow_ladder.release.source import Release, read_source
from yellow_ladder.release.versions import Version
from yellow_ladder.route import Wishes, find_route


def release(version: str, reach: str = "", *, waypoint: bool | str = False, tool: str = "", **about: str) -> Release:
    sheet = ReleaseSheet.model_validate({
        "format": 1, "release": {"product": "quaybook", "version": version, **about},
        "reach": {"from": reach, "waypoint": waypoint}, "needs": {"tool": tool},
    })  # fmt: skip
    return Release(sheet, Path(f"quaybook-{version}.tar.zst"), "")


def inner(one: Release, number: int | None, brings: int | None, needs: int | None) -> Release:
    """The release with an inner schema number, and with the version of a part that it brings and needs before."""
    sheet = one.sheet
    about = sheet.release.model_copy(
        update={"schema_number": number, "parts": {"kit": f"{brings}.0"} if brings is not None else {}}
    )
    wants = sheet.needs.model_copy(update={"parts": {"kit": f">={needs}.0"} if needs is not None else {}})
    return replace(one, sheet=sheet.model_copy(update={"release": about, "needs": wants}))


def versions(present: str, target: str, releases: list[Release]) -> list[str]:
    return [str(rung.to_version) for rung in find_route(Version(present), Version(target), releases).rungs]


def test_the_fewest_rungs_that_skip_no_stop() -> None:
    offered = [
        release("2.6", ">=2.0,<2.6"), release("2.8", ">=2.0,<2.8"), release("3.0", ">=2.6,<3.0", waypoint=True),
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


def test_neither_previews_nor_withdrawn_releases_unless_asked_for() -> None:
    offered = [
        release("2.6", ">=2.4,<2.6"), release("2.7", ">=2.4,<2.7", withdrawn="loses remarks"),
        release("2.8", ">=2.6,<2.8"), release("2.9rc1", ">=2.4,<2.9"), release("3.0", ">=2.7,<3.0", channel="preview"),
    ]  # fmt: skip
    present = Version("2.4")
    usual = find_route(present, None, offered)
    assert [str(rung.to_version) for rung in usual.rungs] == ["2.6", "2.8"]
    assert {str(one.version): one.why for one in usual.passed_over} == {
        "2.7": "withdrawn: loses remarks", "2.9rc1": "a preview", "3.0": "a preview",
    }  # fmt: skip
    daring = find_route(present, None, offered, Wishes(previews=True, withdrawn=True))
    assert [str(rung.to_version) for rung in daring.rungs] == ["2.9rc1", "3.0"]
    named = find_route(present, Version("3.0"), offered)
    assert [str(rung.to_version) for rung in named.rungs] == ["2.6", "2.8", "3.0"]
    with pytest.raises(AnswerNo) as refusal:
        find_route(present, Version("2.7"), offered)
    assert refusal.value.problems[0].code == "withdrawn-target"
    assert "loses remarks" in refusal.value.problems[0].message


def test_any_release_of_a_named_stop_will_do_and_the_newest_is_taken() -> None:
    offered = [
        release("3.0", ">=2.0", waypoint="the great move"), release("3.0.1", ">=2.0", waypoint="the great move"),
        release("3.0.2", ">=2.0", waypoint="the great move", withdrawn="wrong"), release("4.0", ">=3.0"),
    ]  # fmt: skip
    assert versions("2.4", "4.0", offered) == ["3.0.1", "4.0"]
    assert versions("3.0", "4.0", offered) == ["4.0"]
    assert versions("2.4", "3.0.1", offered) == ["3.0.1"]
    why = find_route(Version("2.4"), Version("4.0"), offered).passed_over[0].why
    assert why == "another release of the waypoint the great move is taken"


def test_waypoints_that_lie_in_each_other_come_to_an_end() -> None:
    offered = [
        release("3.0", ">=2.0,<3.0", waypoint="a"), release("3.1", ">=3.0,<3.1", waypoint="b"),
        release("3.2", ">=3.1,<3.2", waypoint="a"), release("3.3", ">=3.2,<3.3", waypoint="b"),
        release("4.0", ">=3.3,<4.0"),
    ]  # fmt: skip
    assert versions("2.4", "4.0", offered) == ["3.0", "3.1", "3.2", "3.3", "4.0"]
    round_about = [release("3.0", "==2.9"), release("3.1", "==3.0"), release("2.9", "==2.8")]
    with pytest.raises(AnswerNo) as refusal:
        find_route(Version("2.4"), Version("3.1"), round_about)
    assert "2.9 can only be reached from ==2.8" in refusal.value.problems[0].message


def test_a_withdrawn_stop_with_no_substitute_is_named() -> None:
    offered = [release("3.0", ">=2.0", waypoint=True, withdrawn="corrupts tides"), release("4.0", ">=2.0")]
    with pytest.raises(AnswerNo) as refusal:
        find_route(Version("2.4"), Version("4.0"), offered)
    assert "the waypoint 3.0, which is withdrawn: corrupts tides" in refusal.value.problems[0].message


def test_a_preview_of_a_bound_is_not_within_the_bound() -> None:
    offered = [release("3.0rc1", ">=2.0"), release("3.1", ">=2.0,<3.0")]
    assert versions("2.4", "3.1", offered) == ["3.1"]
    with pytest.raises(AnswerNo):
        find_route(Version("3.0rc1"), Version("3.1"), offered)


STOPS = st.sampled_from([False, False, True, "a", "b"])
INSIDE = st.tuples(st.none() | st.integers(1, 4), st.none() | st.integers(1, 4), st.none() | st.integers(1, 4))
OFFER = st.tuples(st.integers(1, 12), STOPS, st.booleans() | st.just(True), st.sampled_from(["", "!=", "=="]), INSIDE)
OFFERS = st.dictionaries(st.integers(1, 10), OFFER, min_size=1, max_size=7)


@settings(max_examples=examples(400))
@given(offer=OFFERS, present=st.integers(1, 6), odd=st.integers(1, 10))
def test_the_route_is_as_short_as_brute_force_finds_and_breaks_no_rule(
    offer: dict[int, tuple[int, bool | str, bool, str, tuple[int | None, int | None, int | None]]],
    present: int,
    odd: int,
) -> None:
    target = max(offer)
    if target <= present:
        return
    offer[target] = (*offer[target][:2], True, *offer[target][3:])
    offered = []
    for version, (low, waypoint, stands, operator, inside) in list(offer.items()):
        low = min(low, version - 1)
        if operator == "==" and not low <= odd < version:
            operator = ""  # a sheet that contradicts itself is refused before any route is looked for
        offer[version] = (low, waypoint, stands, operator, inside)
        reach = f">={low}.0,<{version}.0" + (f",{operator}{odd}.0" if operator else "")
        withdrawn = "" if stands else "bad"
        offered.append(inner(release(f"{version}.0", reach, waypoint=waypoint, withdrawn=withdrawn), *inside))
    lowest = {
        name: min(v for v in offer if offer[v][1] == name)
        for name in ("a", "b")
        if any(o[1] == name for o in offer.values())
    }

    def allowed(start: int, end: int) -> bool:
        low, waypoint, stands, operator, (number, brings, needs) = offer[end]
        own_number, own_part, _ = offer[start][4] if start in offer else (None, None, None)
        is_older_inside = number is not None and own_number is not None and own_number > number
        misses_part = None not in (brings, needs, own_part) and own_part < needs  # type: ignore[operator]
        in_range = low <= start < end and {"": True, "!=": start != odd, "==": start == odd}[operator]
        skips = any(offer[one][1] is True and start < one < end for one in offer)
        skips = skips or any(start < first < end and waypoint != name for name, first in lowest.items())
        return in_range and stands and not skips and not is_older_inside and not misses_part

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


def test_the_program_shows_what_it_passes_over(idle: Demo) -> None:
    sheet = archives.SHEET.replace(b'version = "9.0"', b'version = "9.0"\nchannel = "preview"')
    archives.write(idle.folder / "releases" / "quaybook-9.0.tar.zst", sheet=sheet)
    withdrawn = archives.SHEET.replace(b'version = "9.0"', b'version = "3.5"\nwithdrawn = "loses remarks"')
    archives.write(idle.folder / "releases" / "quaybook-3.5.tar.zst", sheet=withdrawn.replace(b",<9.0", b",<3.5"))
    assert idle.json("route")["to"] == "4.0"
    over = {one["version"]: one["why"] for one in idle.json("route")["passed_over"]}
    assert over == {"3.5": "withdrawn: loses remarks", "9.0": "a preview"}
    assert "loses remarks" in idle.yl("route", "--all").out
    assert idle.json("route", "--preview")["to"] == "9.0"
    idle.edit('digests = "required"', 'digests = "wanted"\nchannel = "preview"')
    assert idle.json("route")["to"] == "9.0"


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
        (BASE + 'channel = "nightly"', "wrong-value", "release.channel"),
        (BASE + '[notes]\nexpires = "x"', "key-not-built", "notes.expires"),
        (BASE + '[reach]\nfrom = ">=3.0"', "wrong-value", "contradicts itself"),
        (BASE + '[needs]\nruntime = ">3,<2"', "wrong-value", "no version at all is in `needs.runtime`"),
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
