"""The three-way merge by structure: what the old release shipped, what the site made of it, what the new one ships."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

from yellow_ladder.settings.merging.lines import merge_comments, merge_lines
from yellow_ladder.settings.merging.lists import merged_list, merged_set
from yellow_ladder.settings.merging.outcomes import Answer, Decider, Fate, Outcome, Sides
from yellow_ladder.settings.merging.siblings import WHOLE, Key, in_one_order, keyed
from yellow_ladder.settings.port import Format
from yellow_ladder.settings.rewriting import rewritten
from yellow_ladder.settings.tree import TAG, TEXT, Node, Path, dotted, leaves, named

_OF_ARGUMENTS = ("conf", "angles", "braces", "unit")


@dataclass(slots=True)
class Merge:
    """One merge under way: how conflicts are decided, and what became of each key so far."""

    form: Format
    decide: Decider
    lists: Mapping[str, str] = field(default_factory=dict)  # key -> set or sequence, where somebody said so
    outcomes: list[Outcome] = field(default_factory=list)

    def blocks(self, path: Path, base: Node | None, mine: Node, new: Node) -> Node:
        """The merged block of three; without a base, whatever both have and say differently is a conflict."""
        parts: list[Node] = []
        versions = [base.children if base else [], mine.children, new.children]
        ids = keyed(versions)
        fought = {} if self.lists.get(dotted(path)) == "set" else self._fought(ids)
        found: dict[Key, Node] = {}
        labels = self._labels(versions)
        carried: dict[Key, str] = {}
        for key in dict.fromkeys((*ids[0], *ids[1], *ids[2])):
            b, m, n = (one.get(key) for one in ids)
            name = next(labels[id(one)] for one in (b, n, m) if one is not None)
            here = path if name in (TAG, TEXT) else (*path, name)
            merged = self._fought_part(here, fought[key], m, n) if key in fought else self._part(here, b, m, n)
            if merged is not None:
                found[key] = merged
            elif m is not None:
                carried[key] = _own_comments(b, m)
        order = in_one_order(list(ids[0]), list(ids[1]), list(ids[2]), found)
        parts = [found[key] for key in order]
        rest = _hand_on(carried, list(ids[1]), found)
        result = self._frame(base, mine, new)
        result.parts = parts
        result.foot = rest + result.foot
        self.form.settle(result)
        return result

    def _labels(self, versions: list[list[Node]]) -> dict[int, str]:
        """Names for people: as they are told apart in the version with the most of them."""
        names: dict[int, str] = {}
        for nodes in versions:
            names |= {id(node): name for node, name in named(nodes)}
        return names

    def _frame(self, base: Node | None, mine: Node, new: Node) -> Node:
        """What stands around a value or the parts of a block."""
        b = base or Node("")
        frame = Node(new.name, labels=new.labels)
        frame.lead = merge_comments(b.lead, mine.lead, new.lead) if base else _both(mine.lead, new.lead)
        frame.head = _pick(b.head if base else None, mine.head, new.head)
        whole = mine.parts is not None and (not mine.head or mine.head.startswith("<?"))
        frame.foot = (
            merge_comments(b.foot, mine.foot, new.foot)
            if whole and base
            else _pick(b.foot if base else None, mine.foot, new.foot)
        )
        closing = _CLOSES.get(_bracket(frame.head), "")
        if closing and _bracket(frame.foot) != closing:  # one side wrote it with other brackets
            frame.foot = merge_comments(*(_closed_by(closing, one.foot) for one in (b, mine, new)))
        frame.sep = _pick(b.sep if base else None, mine.sep, new.sep)
        frame.tail = _pick(b.tail if base else None, mine.tail, new.tail)
        return frame

    def _part(self, path: Path, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """What becomes of one part; None where it is not there in the end."""
        if base is not None and mine is not None and new is not None and mine.is_same(base) and new.is_same(base):
            return new.copied()
        if mine is not None and new is not None and not mine.off and not new.off:
            old = base if base is not None and not base.off else None
            as_one = self.lists.get(dotted(path)) == "sequence" and self._all_differ(base, mine, new)
            if (
                not as_one
                and mine.parts is not None
                and new.parts is not None
                and (old is None or old.parts is not None)
            ):
                merged = self.blocks(path, old, mine, new)
                # What one side left alone is the other's to the byte; the merge of its parts has told what changed.
                if old is not None and mine.text == old.text:
                    return new.copied()
                return mine.copied() if old is not None and new.text == old.text else merged
            if mine.opaque and new.opaque:
                return self._text(path, old, mine, new)
        was, here, there = (self._says(one) for one in (base, mine, new))
        if here == there:
            return self._agreed(base, mine, new)
        if here == was:
            return self._theirs(path, base, mine, new)
        if there == was:
            return self._ours(path, base, mine, new)
        return self._conflict(path, base, mine, new)

    def _says(self, node: Node | None) -> object:
        """All that a part sets; None where it sets nothing."""
        if node is None or node.off:
            return None
        if node.opaque:
            return (node.value or "").rstrip()
        if node.parts is None:
            return self.form.meaning(node)
        return tuple((path, self.form.meaning(leaf)) for path, leaf in leaves(node)) or ("",)

    def _agreed(self, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """Both say the same: how it is written follows whoever changed that."""
        if mine is None or new is None:
            other = new if mine is None else mine
            changed = base is None or (other is not None and other.text != base.text)
            return other.copied() if other is not None and changed else None
        if mine.parts is not None or new.parts is not None or mine.off != new.off:
            return (new if base is not None and mine.text == base.text else mine).copied()
        frame = self._frame(base, mine, new)
        frame.value, frame.off, frame.opaque = (
            _pick(base.value or "" if base else None, mine.value or "", new.value or ""),
            mine.off,
            mine.opaque,
        )
        return frame

    def _theirs(self, path: Path, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """Nobody changed it here: it follows the release."""
        set_before = base is not None and not base.off
        what = Fate.FOLLOWS if set_before else Fate.NEW
        if new is None or new.off:
            what = Fate.GONE
        self._tell(what, path, base, mine, new, new)
        if new is None:
            return None
        if mine is None:
            return new.copied()
        node = new.copied()
        node.lead = (
            merge_comments(base.lead if base else "", mine.lead, new.lead) if base else _both(mine.lead, new.lead)
        )
        if not mine.off and mine.value is not None and new.value is not None:
            node.tail = _pick(base.tail if base else None, mine.tail, new.tail)
        return node

    def _ours(self, path: Path, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """Only the site changed it: it stays as the site has it."""
        what = Fate.LEFT_OUT if mine is None or mine.off else Fate.KEPT
        self._tell(what, path, base, mine, new, mine)
        if mine is None:
            return None
        node = mine.copied()
        if new is not None and base is not None:
            node.lead = merge_comments(base.lead, mine.lead, new.lead)
            if not new.off and not mine.off and not base.off and mine.value is not None:
                node.head, node.tail = _pick(base.head, mine.head, new.head), _pick(base.tail, mine.tail, new.tail)
                node.name = new.name
        return node

    def _text(self, path: Path, base: Node | None, mine: Node, new: Node) -> Node:
        """A text that is not understood, line by line."""
        frame = self._frame(base, mine, new)
        frame.opaque = True
        merged = merge_lines((base.value if base else "") or "", mine.value or "", new.value or "")
        frame.value = merged.text
        if merged.conflicts:
            sides = Sides(*("".join(one[side] for one in merged.conflicts) for side in range(3)))
            answer = self.decide(dotted(path), sides)
            if answer is not None and answer.take == "new":
                frame.value = merge_lines((base.value if base else "") or "", new.value or "", mine.value or "").text
            elif answer is not None and answer.take == "value":
                frame.value = answer.value
            what = Fate.CONFLICT if answer is None else Fate.KEPT
            self.outcomes.append(Outcome(dotted(path), what, sides, sides.mine, _took(answer)))
        elif base is None or merged.text != new.value:
            self.outcomes.append(Outcome(dotted(path), Fate.KEPT, Sides(None, mine.value, new.value), merged.text))
        return frame

    def _conflict(self, path: Path, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """Both changed it, differently: lists take both changes, all else is asked."""
        key = dotted(path)
        sides = Sides(*(self._shown(one) for one in (base, mine, new)))
        plain = all(one is not None and one.value is not None and not one.off for one in (base, mine, new))
        if plain and base is not None and mine is not None and new is not None:
            values = (base.value or "", mine.value or "", new.value or "")
            both = self._both(key, values)
            if both is not None:
                frame = self._frame(base, mine, new)
                frame.value = both
                self.outcomes.append(Outcome(key, Fate.KEPT, sides, both, why="both sides' changes of the list"))
                return frame
        answer = self.decide(key, sides)
        node = self._decided(answer, base, mine, new)
        what = Fate.CONFLICT if answer is None else {"new": Fate.FOLLOWS}.get(answer.take, Fate.KEPT)
        self.outcomes.append(Outcome(key, what, sides, self._shown(node), _took(answer)))
        return node

    def _both(self, key: str, values: tuple[str, str, str]) -> str | None:
        """Both sides' changes of a list on one line; None where it is none, or none that may be merged."""
        match self.lists.get(key):
            case "sequence":
                return None
            case "set":
                return merged_set(*values)
            case _:
                return merged_list(*values, of_words=self.form.name in _OF_ARGUMENTS)

    def _all_differ(self, *versions: Node | None) -> bool:
        return len({self._says(one) for one in versions}) == len(versions)

    def _decided(self, answer: Answer | None, base: Node | None, mine: Node | None, new: Node | None) -> Node | None:
        """The part as it was decided; until then the site's."""
        if answer is not None and answer.take == "new":
            if new is None:
                return None
            node = new.copied()
            if mine is not None:
                node.lead = merge_comments(base.lead if base else "", mine.lead, new.lead)
            return node
        if answer is not None and answer.take == "value":
            model = next(one for one in (mine, new, base) if one is not None and not one.off and one.value is not None)
            return replace(model.copied(), value=rewritten(self.form, model, answer.value))
        if mine is None:
            return None
        node = mine.copied()
        if new is not None:
            node.lead = merge_comments(base.lead if base else "", mine.lead, new.lead)
        return node

    def _shown(self, node: Node | None) -> str | None:
        """A part's value as it stands in its file."""
        if node is None or node.off:
            return None
        if node.value is not None:
            return node.value
        return "".join((node.head, *(part.text for part in node.children), node.foot)).strip()

    def _tell(
        self, what: Fate, path: Path, base: Node | None, mine: Node | None, new: Node | None, result: Node | None
    ) -> None:
        """Note what becomes of a part; of a block, of each of its keys."""
        versions = (base, mine, new, result)
        if all(one is None or one.parts is None for one in versions):
            shown = [self._shown(one) for one in versions]
            self.outcomes.append(Outcome(dotted(path), what, Sides(*shown[:3]), shown[3]))
            return
        keys: dict[Path, list[str | None]] = {}
        for place, one in enumerate(versions):
            for below, leaf in _keys_of(one):
                keys.setdefault(below, [None] * 4)[place] = leaf.value
        for below, values in keys.items():
            self.outcomes.append(Outcome(dotted((*path, *below)), what, Sides(*values[:3]), values[3]))

    def _fought(self, ids: list[dict[Key, Node]]) -> dict[Key, tuple[str, Sides]]:
        """Parts known only by all that they are, of a name where both sides put others in the place of the same: that
        name, and what stands there.
        """
        base, mine, new = ids
        names: dict[str, list[list[Key]]] = {}
        for key in dict.fromkeys((*base, *mine, *new)):
            if WHOLE in key:
                groups = names.setdefault(str(key[0]), [[], [], []])
                there = [key in one for one in ids]
                if there.count(True) == 1:
                    groups[there.index(True)].append(key)
        found: dict[Key, tuple[str, Sides]] = {}
        for name, groups in names.items():
            if all(groups):
                sides = Sides(*(
                    "\n".join(self._shown(nodes[key]) or "" for key in group)
                    for nodes, group in zip(ids, groups, strict=True)
                ))  # fmt: skip
                found |= dict.fromkeys((*groups[1], *groups[2]), (name, sides))
        return found

    def _fought_part(self, path: Path, fought: tuple[str, Sides], mine: Node | None, new: Node | None) -> Node | None:
        """One of the parts that both sides put in the place of the same: one side's stay."""
        key = dotted((*path[:-1], fought[0]) if fought[0] else path[:-1])
        answer = self.decide(key, fought[1])
        if answer is not None and answer.take == "value":
            answer = None  # several parts are no single value: one side's or the other's
        stays = (new is not None) == (answer is not None and answer.take == "new")
        what = Fate.CONFLICT if answer is None else {"new": Fate.FOLLOWS}.get(answer.take, Fate.KEPT)
        if not any(one.key == key and one.sides == fought[1] for one in self.outcomes):
            self.outcomes.append(Outcome(key, what, fought[1], fought[1].mine, _took(answer)))
        kept = new or mine
        return kept.copied() if stays and kept is not None else None


def _keys_of(node: Node | None) -> Iterator[tuple[Path, Node]]:
    if node is None or node.off:
        return
    if node.parts is None:
        yield (), node
    else:
        yield from leaves(node)


_CLOSES = {"(": ")", "[": "]", "{": "}"}


def _closed_by(closing: str, foot: str) -> str:
    """The end of a block with another bracket."""
    bare = foot.rstrip()
    return f"{bare[:-1]}{closing}{foot[len(bare) :]}" if _bracket(foot) else foot


def _bracket(text: str) -> str:
    """The bracket that a text ends with; empty where it ends with none."""
    last = text.rstrip()[-1:]
    return last if last and last in "()[]{}" else ""


def _pick(base: str | None, mine: str, new: str) -> str:
    """What only writes a value: the changed one, the site's where both did. Blanks alone are no change."""
    if base is None or new == base:
        return mine
    return new if mine.strip() == base.strip() else mine


def _both(mine: str, new: str) -> str:
    """Comments of two versions without a base: the site's, and below it what only the release's has."""
    return merge_comments("", mine, new) if mine.strip() else new


def _took(answer: Answer | None) -> str:
    return "" if answer is None else answer.take


def _own_comments(base: Node | None, mine: Node) -> str:
    """Comments that the site put above a part that goes, or into it."""
    known = set(_comments_of(base)) if base is not None else set()
    return "".join(line for line in _comments_of(mine) if line not in known and line.strip() and line.endswith("\n"))


def _comments_of(node: Node) -> list[str]:
    """The whole lines between keys."""
    closing = node.foot if node.parts is not None and node.foot.lstrip()[:1] in "#;" else ""
    lines = node.lead.splitlines(keepends=True)
    for part in node.children:
        lines += _comments_of(part)
    return lines + closing.splitlines(keepends=True)


def _hand_on(carried: dict[Key, str], mine: list[Key], found: dict[Key, Node]) -> str:
    """Put the site's comments on parts that went above what follows; returns those that nothing follows."""
    waiting = ""
    for key in mine:
        waiting += carried.get(key, "")
        if waiting and key in found:
            found[key].lead, waiting = waiting + found[key].lead, ""
    return waiting
