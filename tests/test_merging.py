"""Settings are merged by structure: the site's values stay, the rest follows the release, and little is asked."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.laws import examples
from tests.merging import Case, cases
from yellow_ladder.settings.document import Document, form_named, merge_documents, merged_tree
from yellow_ladder.settings.formats.bracket import IDENTITIES
from yellow_ladder.settings.formats.kinds import FORMATS
from yellow_ladder.settings.formats.lined import ARGUMENT
from yellow_ladder.settings.merging.merge import Merge
from yellow_ladder.settings.merging.outcomes import Answer, Fate, Sides, undecided
from yellow_ladder.settings.tree import Node, bare_leaves

CASES = cases()


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_a_case_from_life_comes_out_as_a_careful_person_would_want_it(case: Case) -> None:
    merged = case.merged()
    assert merged.raw.decode() == case.wanted
    assert sorted({one.key for one in merged.conflicts}) == sorted(case.conflicts)


def test_nothing_is_asked_in_vain_while_a_merge_by_lines_asks_ten_times_as_often(tmp_path: Path) -> None:
    """Asked for nothing: a conflict where a careful person knows what is wanted without being asked."""
    assert len(CASES) >= 80
    ours = sum(len(case.merged().conflicts) > 0 for case in CASES if not case.conflicts)
    by_lines = sum(case.merged_by_lines(tmp_path)[0] > 0 for case in CASES if not case.conflicts)
    assert by_lines >= 20
    assert ours * 10 <= by_lines


def test_every_format_has_cases_and_is_recognised() -> None:
    seen = {form_named(case.form, case.file, case.base).name for case in CASES}
    assert seen == set(FORMATS)


BASES = sorted({(case.file, case.form, case.base) for case in CASES if case.form != "lines"})


@dataclass(frozen=True)
class Edit:
    """One change of a file: of the key or comment at a place, counted around."""

    kind: str
    place: int
    value: str


edits = st.lists(
    st.builds(Edit, st.sampled_from(["set", "remove", "comment"]), st.integers(0, 40), st.sampled_from(["aa", "bb"])),
    max_size=4,
)


def edited(document: Document, changes: list[Edit]) -> Document:
    """A copy with changes made, as somebody with an editor would."""
    root = document.root.copied()
    made = Document(document.raw, document.form)
    for one in changes:
        # Whose name was changed is another part of its list; hand-made cases have those.
        places = [(above, node) for above, node in _keys(root) if node.name.lstrip("@") not in (ARGUMENT, *IDENTITIES)]
        if not places:
            break
        above, node = places[one.place % len(places)]
        if one.kind == "set":
            quoted = (node.value or "")[:1] in ("'", '"') or made.form.name in ("python", "javascript", "ruby")
            node.value = f'"{one.value}{one.place}"' if quoted else made.form.written(f"{one.value}{one.place}")
        elif one.kind == "remove" and len(above.children) > 2:
            above.children.remove(node)
            made.form.settle(above)
        elif made.form.comment in ("#", ";", "//") and ("\n" in node.lead or node is root.children[0]):
            body, _, pad = node.lead.rpartition("\n")
            node.lead = (
                f"{body}{made.form.comment} {one.value} {one.place}\n{pad}" if body or not node.lead else node.lead
            )
    return Document(made.script.written(root.text), document.form)


def _keys(block: Node) -> list[tuple[Node, Node]]:
    found = []
    for node in block.children:
        if node.parts is not None:
            found += _keys(node)
        elif not node.off and not node.opaque:
            found.append((block, node))
    return found


def by_structure(base: Document, mine: Document, new: Document) -> tuple[str, list[str]]:
    """The merged text without any short cut, and the keys of its conflicts."""
    merge = Merge(base.form, undecided)
    root = merged_tree(merge, base, mine, new)
    return root.text, sorted({one.key for one in merge.outcomes if one.fate is Fate.CONFLICT})


@example(
    which=next(one for one in BASES if one[0] == "settings.py"),
    here=[Edit("remove", 0, "aa"), Edit("set", 9, "aa")],
    there=[Edit("remove", 21, "aa")],
)
@example(
    which=next(one for one in BASES if one[0] == "berths.properties"),
    here=[Edit("comment", 0, "aa")],
    there=[Edit("remove", 0, "aa"), Edit("comment", 0, "aa")],
)
@settings(max_examples=examples(300))
@given(which=st.sampled_from(BASES), here=edits, there=edits)
def test_the_laws_of_merging_hold_for_every_format(
    which: tuple[str, str, str], here: list[Edit], there: list[Edit]
) -> None:
    file, name, text = which
    base = Document(text.encode(), form_named(name, file, text))
    mine, new = edited(base, here), edited(base, there)
    # What nobody changed here is the release's, what nobody changed there is the site's, to the byte; both by the
    # short cut and by structure.
    assert merge_documents(base, base, new).raw == new.raw
    assert merge_documents(base, mine, base).raw == mine.raw
    assert by_structure(base, base, new) == (new.root.text, [])
    assert by_structure(base, mine, base) == (mine.root.text, [])
    assert by_structure(base, mine, mine) == (mine.root.text, [])
    # The merged file reads as the merge says (it raises where not), and merging it again changes nothing.
    merged = merge_documents(base, mine, new)
    again = merge_documents(base, Document(merged.raw, base.form), new)
    assert again.raw == merged.raw
    # Swapped sides have the same conflicts.
    assert {one.key for one in merged.conflicts} == {one.key for one in merge_documents(base, new, mine).conflicts}
    # No value of the site's own vanishes without being named.
    own = [(path, base.form.meaning(node)) for path, node in bare_leaves(mine.root)]
    old = [(path, base.form.meaning(node)) for path, node in bare_leaves(base.root)]
    now = [(path, base.form.meaning(node)) for path, node in bare_leaves(Document(merged.raw, base.form).root)]
    named = {one.key.rpartition(".")[2] for one in merged.outcomes}
    for path, value in own:
        if (path, value) not in old and (path, value) not in now:
            assert path[-1] in named
    # Nor does a comment.
    for line in mine.root.text.splitlines():
        if line not in text.splitlines() and line.strip()[:2] in ("# ", "; ", "//"):
            assert line.strip() in merged.raw.decode()


def test_a_conflict_is_decided_for_the_site_the_release_or_a_value_of_its_own() -> None:
    case = next(one for one in CASES if one.name == "the same key changed differently")
    asked: list[tuple[str, Sides]] = []

    def answering(answer: Answer) -> bytes:
        def decide(key: str, sides: Sides) -> Answer:
            asked.append((key, sides))
            return answer

        merged = case.merged(decide)
        assert merged.conflicts == ()
        return merged.raw

    assert b"level = debug\n" in answering(Answer("mine"))
    assert b"level = notice\n" in answering(Answer("new"))
    assert b"level = error\n" in answering(Answer("value", "error"))
    assert asked[0] == ("log.level", Sides("info", "debug", "notice"))


def test_without_the_old_file_whatever_differs_is_asked() -> None:
    case = next(one for one in CASES if one.name == "own port, new default for the log")
    form = form_named("", case.file, case.base)
    merged = merge_documents(None, Document(case.mine.encode(), form), Document(case.new.encode(), form))
    assert {one.key for one in merged.conflicts} == {"server.port", "log.level"}
    assert b"port = 9000" in merged.raw
    assert b"level = info" in merged.raw
