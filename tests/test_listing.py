"""Lists of files that are never held whole say what the same entries in memory would say."""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yellow_ladder.backup.catalog import read_manifest
from yellow_ladder.errors import AnswerNo
from yellow_ladder.files import listing as listing_module
from yellow_ladder.files import store as store_module
from yellow_ladder.files.beside import look_beside
from yellow_ladder.files.entry import Entry, Kind, changed, place_of
from yellow_ladder.files.listing import Chosen, Listing, in_order, in_pairs, merged, side_by_side, write_listing
from yellow_ladder.files.manifest import compare_manifests, look_at, take_manifest, tree_digest, walk_tree
from yellow_ladder.files.marks import Marks
from yellow_ladder.files.unlike import unlike

NAMES = st.binary(min_size=1, max_size=4).filter(lambda raw: b"/" not in raw and b"\0" not in raw)
PATHS = st.lists(NAMES, min_size=1, max_size=4).map(lambda parts: os.fsdecode(b"/".join(parts)))
ENTRIES = st.dictionaries(
    st.one_of(PATHS, PATHS.map(lambda path: f"/{path}")),
    st.builds(
        Entry, st.just(""), st.sampled_from(Kind), st.integers(0, 0o7777), st.integers(0, 2**32 - 1),
        st.integers(0, 2**32 - 1), st.integers(0, 2**62), st.integers(-(2**62), 2**62),
        st.sampled_from(["", "ab" * 32]),
        PATHS, st.integers(0, 2**63 - 1), st.integers(0, 2**62), st.sampled_from(["", "a/b"]),
        st.sampled_from([None, (), (("user.seal", "AA=="),)]),
    ),
    max_size=40,
).map(lambda found: {path: changed(entry, path=path) for path, entry in found.items()})  # fmt: skip


def listed(entries: dict[str, Entry]) -> Listing:
    return Listing.of(in_order(entries))


@pytest.fixture(autouse=True)
def _small_pieces(monkeypatch: pytest.MonkeyPatch) -> None:
    """Short lists have many pieces too, and go to a file."""
    monkeypatch.setattr(listing_module, "_PIECE_ENTRIES", 3)
    monkeypatch.setattr(listing_module, "_PIECE_BYTES", 300)
    monkeypatch.setattr(store_module, "_HELD_BYTES", 2000)


@given(both=ENTRIES, ours=ENTRIES, theirs=ENTRIES)
def test_what_is_unlike_in_two_lists_is_what_differs_entry_by_entry(
    both: dict[str, Entry], ours: dict[str, Entry], theirs: dict[str, Entry]
) -> None:
    left, right = {**both, **ours}, {**theirs, **both}
    order = sorted(left.keys() | right.keys(), key=place_of)
    expected = [(left.get(path), right.get(path)) for path in order if left.get(path) != right.get(path)]
    found = list(unlike(listed(left), listed(right)))
    assert [(old, new) for old, new, _ in found] == expected
    places = sorted(right, key=place_of)
    assert all(places[number] == new.path for _, new, number in found if new is not None)


def _change_some(tree: Path, chance: random.Random) -> None:
    """What may become of files behind a list's back, also under the same name, size and time."""
    files = sorted(path for path in tree.rglob("*") if path.is_file() and not path.is_symlink())
    for path in chance.sample(files, min(6, len(files))):
        status = path.stat()
        match chance.randrange(7):
            case 0:
                path.unlink()
            case 1:
                path.write_bytes(b"y" * status.st_size)
                os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
            case 2:
                path.chmod(0o600 if status.st_mode & 0o777 != 0o600 else 0o640)
            case 3:
                path.unlink()
                path.mkdir()
            case 4:
                path.with_name(path.name + "-new").hardlink_to(path)
            case 5:
                path.rename(path.with_name("moved " + path.name))
            case _:
                path.unlink()
                path.symlink_to("elsewhere")


@pytest.mark.parametrize("seed", range(12))
def test_a_tree_beside_its_list_is_what_two_looks_say(tmp_path: Path, seed: int) -> None:
    chance, tree = random.Random(seed), tmp_path / "tree"
    for number in range(30):
        folder = tree / "/".join(chance.choices(["a", "ab", "a b", "é"], k=chance.randrange(4)))
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{number}").write_text("x" * chance.randrange(3))
    (tree / "twice").hardlink_to(next(path for path in tree.rglob("*") if path.is_file()))
    before = take_manifest(tree)
    _change_some(tree, chance)
    found = list(look_beside(tree, lambda path: path == "a/0", in_order(before)))
    expected = list(in_pairs(in_order(before), look_at(tree, lambda path: path == "a/0", known=before)))
    assert found == expected
    assert any(old is new for old, new in found)
    assert any(old != new for old, new in found)


@given(entries=ENTRIES, others=ENTRIES, seed=st.integers(0, 99))
def test_a_list_is_what_the_same_entries_in_memory_are(
    entries: dict[str, Entry], others: dict[str, Entry], seed: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    path = tmp_path_factory.mktemp("list") / "files.jsonl"
    write_listing(path, in_order(entries))
    for found in (listed(entries), Listing.opened(path)):
        assert found == entries
        assert len(found) == len(entries)
        assert [entry.path for entry in found.entries()] == sorted(entries, key=place_of)
        wanted = [*entries, *others]
        random.Random(seed).shuffle(wanted)
        assert [found.get(one) for one in wanted] == [entries.get(one) for one in wanted]
        assert [found.number_of(entry.path) for entry in found.entries()] == list(range(len(entries)))
        assert compare_manifests(found, listed(others)) == compare_manifests(entries, others)
        assert tree_digest(found) == tree_digest(entries)
        below = Chosen(found, lambda one: not one.startswith("/"))
        assert dict(below) == {one: entry for one, entry in entries.items() if not one.startswith("/")}


@given(entries=ENTRIES, others=ENTRIES)
def test_side_by_side_leaves_nothing_out_and_pairs_what_belongs_together(
    entries: dict[str, Entry], others: dict[str, Entry]
) -> None:
    pairs = list(side_by_side(listed(entries), listed(others)))
    assert [old for old, _ in pairs if old] == list(in_order(entries))
    assert [new for _, new in pairs if new] == list(in_order(others))
    assert sum(bool(old and new) for old, new in pairs) == len(entries.keys() & others.keys())
    assert all(old.path == new.path for old, new in pairs if old and new)
    both = [entry.path for entry in merged(in_order(entries), in_order(others))]
    assert both == sorted([*entries, *others], key=place_of)


@settings(max_examples=25)
@given(paths=st.sets(PATHS, max_size=12))
def test_a_list_is_in_the_order_in_which_trees_are_walked(
    paths: set[str], tmp_path_factory: pytest.TempPathFactory
) -> None:
    root = tmp_path_factory.mktemp("tree")
    for path in sorted(paths):
        if all(part not in (".", "..") for part in path.split("/")) and not (root / path).exists():
            above = (root / path).parent
            if all(not one.is_file() for one in (above, *above.parents)):
                above.mkdir(parents=True, exist_ok=True)
                (root / path).write_bytes(b"x")
    walked = [path for path, _ in walk_tree(root)]
    assert walked == sorted(walked, key=place_of)
    assert list(take_manifest(root)) == walked


def test_marks_are_for_the_entries_that_they_were_made_for() -> None:
    entries = {f"d{n % 3}/f{n}": Entry(f"d{n % 3}/f{n}", Kind.FILE, 0, 0, 0, n, n) for n in range(20)}
    marks = Marks(listed(entries))
    for path in ("d0/f3", "d2/f17"):
        marks.add(path)
    assert [path for path in entries if path in marks] == ["d0/f3", "d2/f17"]
    assert marks.count() == 2
    with pytest.raises(KeyError):
        marks.add("d0/f99")


@pytest.mark.parametrize("damage", ["half a line", "a key too many", "another type", "not in order", "an empty line"])
def test_a_damaged_list_is_told_as_that(damage: str, tmp_path: Path) -> None:
    entries = {f"f{n:02}": Entry(f"f{n:02}", Kind.FILE, 0, 0, 0, n, n) for n in range(30)}
    path = tmp_path / "files.jsonl"
    write_listing(path, in_order(entries))
    lines = path.read_bytes().splitlines(keepends=True)
    lines[20] = {
        "half a line": lines[20][:30] + b"\n",
        "a key too many": lines[20].replace(b"{", b'{"x":1,'),
        "another type": lines[20].replace(b'"size":20', b'"size":"20"'),
        "not in order": lines[20],
        "an empty line": b"\n",
    }[damage]
    if damage == "not in order":
        lines = [*lines[15:], *lines[:15]]
    path.write_bytes(b"".join(lines))
    with pytest.raises(AnswerNo, match="damaged") as refusal:
        list(read_manifest(path).entries())
    assert str(path) in refusal.value.problems[0].message


def test_a_list_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "files.jsonl"
    entry = Entry("f", Kind.FILE, 0, 0, 0, 0, 0)
    write_listing(path, [entry])

    def broken_off() -> Iterator[Entry]:
        yield changed(entry, path="g")
        raise OSError("no space left")

    with pytest.raises(OSError, match="no space"):
        write_listing(path, broken_off())
    assert list(Listing.opened(path)) == ["f"]
    assert [one.name for one in tmp_path.iterdir()] == ["files.jsonl"]
    assert path.stat().st_mode & 0o777 == 0o600
