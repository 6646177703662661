"""One settings file: its keys are asked and changed, and all else stays as it is written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import zip_longest
from types import MappingProxyType

from yellow_ladder.memory import gathering_less
from yellow_ladder.settings.formats.code import Code
from yellow_ladder.settings.formats.kinds import FORMATS, format_of
from yellow_ladder.settings.formats.pieces import end_line
from yellow_ladder.settings.merging.merge import Merge
from yellow_ladder.settings.merging.outcomes import Decider, Fate, Outcome, Sides, undecided
from yellow_ladder.settings.port import Format
from yellow_ladder.settings.rewriting import rewritten
from yellow_ladder.settings.script import Script, read_script
from yellow_ladder.settings.tree import TEXT, Broken, Node, bare_leaves, dotted, find, leaves, trail

EMPTY: Mapping[str, str] = MappingProxyType({})


class Document:
    """A settings file in memory. Keys are dotted paths; raises Broken where the text is not of its format."""

    def __init__(self, raw: bytes, form: Format, encoding: str = "") -> None:
        """Read the bytes of a file."""
        text, self.script = read_script(raw, encoding)
        self.form = form
        with gathering_less():
            self.root = form.parse(text)

    def copied(self) -> Document:
        """The same once more, to be changed."""
        return Document(self.raw, self.form, self.script.encoding)

    @property
    def raw(self) -> bytes:
        """The file as bytes."""
        return self.script.written(self.root.text)

    def values(self) -> dict[str, str]:
        """All keys with what their values say."""
        return {dotted(path): self.form.meaning(node) for path, node in leaves(self.root)}

    def get(self, key: str) -> str | None:
        """What a key's value says, None where it is not set."""
        node = find(self.root, key)
        return None if node is None or node.value is None else self.form.meaning(node)

    def set(self, key: str, value: str) -> None:
        """Give a key that is there another value, between the quotation marks that it had."""
        node = find(self.root, key)
        if node is None or node.value is None:
            raise Broken(f"{key} is no single value")
        node.value = rewritten(self.form, node, value)

    def rekey(self, old: str, new: str) -> None:
        """Give a key or block its new name; below the same block it stays in its place, comments above it too."""
        way = self._way(old)
        node = way[-1]
        # A name may have dots of its own: what stands before it is where it lies.
        above = old[: -len(node.name)] if old.endswith(node.name) else old.rpartition(".")[0] + "."
        rest = new.removeprefix(above)
        if new.startswith(above) and ("." not in rest or "." in node.name):
            self.form.renamed(node, rest)
            return
        block, name = self._block_for(new)
        self._above(way).children.remove(node)
        self.form.renamed(node, name)
        if node.parts is None:
            moved = self.form.new_key(block, name, "", "")
            indent = moved.lead.rpartition("\n")[2]
            own = node.lead.rstrip(" \t").lstrip("\n")
            node.lead = "".join(indent + line.lstrip() for line in own.splitlines(keepends=True)) + indent
        self._append(block, node)

    def add(self, key: str, value: str, comment: str) -> None:
        """Add a key under its comment, at the end of its block."""
        block, name = self._block_for(key)
        self._append(block, self.form.new_key(block, name, value, comment))

    def _append(self, block: Node, node: Node) -> None:
        """Put a node at the end of a block; a key of the file itself goes above the first section."""
        sections = [one for one in block.children if one.parts is not None and one.head.lstrip().startswith("[")]
        place = len(block.children)
        if block is self.root and node.parts is None and sections:
            place = block.children.index(sections[0])
        elif any(one.opaque for one in block.children):
            # What is not understood may end the file, or read it: `?>`, `require`, `exit`.
            place = max((at + 1 for at, one in enumerate(block.children) if not one.opaque), default=place)
        ending = block.children[-1] if block.children else None
        is_word = ending is not None and (ending.value or "").strip() == "1;"
        if ending is not None and is_word and place >= len(block.children) - 1:
            place = len(block.children) - 1  # the last word of a Perl file is that it was read
            node.lead, ending.lead = ending.lead + node.lead, ""
        if place == len(block.children):
            self._put_below_retired(block, node)
        if not self._has_commas(block):
            if place:
                end_line(block.children[place - 1])
            elif not block.foot and block.head and not block.head.endswith("\n"):
                block.head += "\n"
        block.children.insert(place, node)
        self.form.settle(block)

    def _put_below_retired(self, block: Node, node: Node) -> None:
        """What was retired at the end of a block stays above what comes after it."""
        lines = block.foot.splitlines(keepends=True)
        count = 0
        if lines and "(retired" in lines[0]:
            while count < len(lines) and lines[count].lstrip().startswith(self.form.comment):
                count += 1
        node.lead, block.foot = "".join(lines[:count]) + node.lead, "".join(lines[count:])

    def _way(self, key: str) -> list[Node]:
        """The nodes down to a key; of an element that has a text, the element."""
        way = trail(self.root, key)
        return way[:-1] if len(way) > 1 and way[-1].name == TEXT else way

    def _has_commas(self, block: Node) -> bool:
        return block.foot.strip()[:1] in ("]", "}", ")", "<")

    def _block_for(self, key: str) -> tuple[Node, str]:
        """The block that a key belongs to, made where it is missing, and the key's own name."""
        above, _, name = key.rpartition(".")
        if any(one.parts is None and one.name.startswith(f"{above}.") for one in self.root.children if above):
            return self.root, key  # others of it are written with their whole names
        while above:
            block = find(self.root, above)
            if block is not None and block.parts is not None:
                return block, name
            outer, _, last = above.rpartition(".")
            if block is None:
                parent = find(self.root, outer) if outer else self.root
                if parent is not None and parent.parts is not None:
                    try:
                        made = self.form.new_block(parent, last)
                    except Broken:
                        return self.root, key
                    self._append(parent, made)
                    return made, name
            above, name = outer, f"{last}.{name}"
        return self.root, key

    def _above(self, way: list[Node]) -> Node:
        return way[-2] if len(way) > 1 else self.root

    def remove(self, key: str) -> None:
        """Take a key out, and what stands above it with it."""
        way = self._way(key)
        block = self._above(way)
        block.children.remove(way[-1])
        self.form.settle(block)

    def retire(self, key: str, why: str) -> bool:
        """Turn a key into a comment in its place; False where the format has none, and it is gone."""
        way = self._way(key)
        node, block = way[-1], self._above(way)
        lines = self.form.as_comment(node, f" (retired: {why})" if why else " (retired)")
        place = block.children.index(node)
        block.children.remove(node)
        if place < len(block.children):
            block.children[place].lead = lines + block.children[place].lead
        else:
            block.foot = lines + block.foot
        self.form.settle(block)
        return bool(lines)


@dataclass(frozen=True, slots=True)
class Merged:
    """The merged file and what became of each key; a key of which nothing is said stays as all versions have it."""

    raw: bytes
    outcomes: tuple[Outcome, ...]

    @property
    def conflicts(self) -> tuple[Outcome, ...]:
        """What is not decided."""
        return tuple(one for one in self.outcomes if one.fate is Fate.CONFLICT)


def merge_documents(
    base: Document | None,
    mine: Document,
    new: Document,
    decide: Decider = undecided,
    lists: Mapping[str, str] = EMPTY,
) -> Merged:
    """What the old release shipped, what the site made of it and what the new one ships, as one file.

    `lists` says of keys whether their values are a set or a sequence. Where one side changed nothing, the result is the
    other's file to the byte. Raises Broken where the merged file
    would not read as the merge says.
    """
    with gathering_less():
        return _merged(base, mine, new, Merge(mine.form, decide, lists))


def _merged(base: Document | None, mine: Document, new: Document, merge: Merge) -> Merged:
    moved = _moved(base, mine, new)
    if base is not None and moved:
        old, own = base.copied(), mine.copied()
        for one in moved:
            old.rekey(one.old_key, one.key)
            own.rekey(one.old_key, one.key)
        merge.outcomes += moved
        root = merged_tree(merge, old, own, new)
    else:
        root = merged_tree(merge, base, mine, new)
    if base is not None and mine.raw == base.raw:
        raw = new.raw
    elif mine.raw == new.raw or (base is not None and new.raw == base.raw):
        raw = mine.raw
    else:
        script = _script(base, mine, new)
        raw = script.written(root.text)
        _see(raw, root, mine.form, script)
        if isinstance(mine.form, Code) and not mine.form.is_sound(root.text) and mine.form.is_sound(new.root.text):
            raise Broken("the merged file would be no program any more")
    return Merged(raw, tuple(merge.outcomes))


def merged_tree(merge: Merge, base: Document | None, mine: Document, new: Document) -> Node:
    """The merged tree, and what became of each key in `merge`."""
    return merge.blocks((), base.root if base else None, mine.root, new.root)


def _moved(base: Document | None, mine: Document, new: Document) -> list[Outcome]:
    """Keys set here that the release has elsewhere: under the same last name, with the default that they had, once."""
    if base is None:
        return []
    own, fresh = ({dotted(path): node for path, node in leaves(one.root)} for one in (mine, new))
    if own.keys() <= fresh.keys():
        return []
    old = {dotted(path): node for path, node in leaves(base.root)}
    gone = {key: node for key, node in own.items() if key in old and key not in fresh}
    changed = {key for key, node in gone.items() if node.value != old[key].value}
    if not changed:
        return []
    came = Counter(node.name for key, node in fresh.items() if key not in old and key not in own)
    went = Counter(node.name for key, node in old.items() if key not in fresh)
    found = []
    for key, node in fresh.items():
        if key in old or key in own or came[node.name] != 1 or went[node.name] != 1:
            continue
        before = next((one for one in changed if own[one].name == node.name), None)
        if before is not None and base.form.meaning(old[before]) == new.form.meaning(node):
            sides = Sides(old[before].value, own[before].value, node.value)
            why = f"was {before}; the release has it here, with the same default"
            found.append(Outcome(key, Fate.RENAMED, sides, own[before].value, old_key=before, why=why))
    return [one for one in found if _can_be_moved(mine, one) and _can_be_moved(base, one)]


def _can_be_moved(document: Document, one: Outcome) -> bool:
    """Whether a file would say the same of the key at its new place: not every format can make what it would lie in."""
    moved = document.copied()
    try:
        moved.rekey(one.old_key, one.key)
        return moved.copied().get(one.key) == document.get(one.old_key)
    except Broken:
        return False


def _script(base: Document | None, mine: Document, new: Document) -> Script:
    """Encoding and line ends: the release's where nobody changed them here."""
    return new.script if base is not None and mine.script == base.script else mine.script


def _see(raw: bytes, root: Node, form: Format, script: Script) -> None:
    """Read the merged file again, and hold it against the merge."""
    again = Document(raw, form, script.encoding)
    for said, read in zip_longest(bare_leaves(root), bare_leaves(again.root)):
        if said is None or read is None or said[0] != read[0] or not _same(form, said[1], read[1]):
            key = dotted((said or read)[0])
            raise Broken(f"the merged file would not say what the merge does of {key}")


def _same(form: Format, said: Node, read: Node) -> bool:
    return said.value == read.value or form.meaning(said) == form.meaning(read)


def form_named(name: str, file: str, text: str) -> Format:
    """The format of a site file's word for it; found out where there is none."""
    return FORMATS[name] if name else format_of(file, text)
