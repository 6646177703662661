"""Placement by exchange: the whole tree is made ready beside root and takes its place; data folders are renamed in.

Nothing is remembered between calls: which tree is where is read from inode numbers, which a rename keeps.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.placing.aside import OnTheSameDisk, aside_folder, aside_of, drop_work
from yellow_ladder.climb.placing.bringing import drop_brought, let_brought_come
from yellow_ladder.climb.placing.port import Placed, ShutTree
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.exchange import inode_of

Exchange = Callable[[Path, Path], bool]


class ExchangePlacement(OnTheSameDisk):
    """Every release is a whole tree. The old one stays aside until the climb is settled."""

    def bring_in(self, plan: Plan, rung: RungPlan, shut: ShutTree) -> Placed:
        """Rename the data folders into the staged tree, then let it and root trade places."""
        root, staged = plan.site.root, Path(rung.staged)
        moved = brought = 0
        # After a kill, root may be this rung's tree already, or be away between two renames: the data have moved then.
        if inode_of(root) not in (0, rung.mark):
            moved = move_folders([(root / old, staged / new) for old, new in rung.data])
            brought = let_brought_come(plan, rung, staged)
            shut(staged)
        return Placed(moved, put_in_place(root, staged, rung.mark, aside_of(plan, rung)), brought)

    def bring_back(self, plan: Plan, shut: ShutTree) -> bool:
        """Find the old tree by its inode and make it root again, with the data folders back in it."""
        root = plan.site.root
        places = [aside_of(plan, rung) for rung in plan.rungs] + [Path(rung.staged) for rung in plan.rungs]
        original = next((place for place in [root, *places] if inode_of(place) == plan.root_mark), None)
        if original is None:
            return False
        _bring_data_home(plan, original, [root, *places])
        if original != root:
            shut(original)
            put_in_place(root, original, plan.root_mark, aside_folder(plan) / f"newer-{plan.to_version}")
        return True

    def drop_passed(self, plan: Plan) -> None:
        """Remove the trees of releases in between."""
        for rung in plan.rungs[1:]:
            remove_entry(aside_of(plan, rung))

    def drop_newer(self, plan: Plan) -> None:
        """Remove staged trees and all that lies aside. The old tree is root by now, or was lost before."""
        for rung in plan.rungs:
            remove_entry(Path(rung.staged))
        self.drop_older(plan)

    def drop_older(self, plan: Plan) -> None:
        """Remove what lies aside, and the folder beside root where there is one."""
        remove_entry(aside_folder(plan))
        drop_brought(plan)
        drop_work(plan)

    def drop_staged(self, plan: Plan) -> None:
        """Remove the staged trees; nothing lies aside yet."""
        drop_brought(plan)
        for rung in plan.rungs:
            remove_entry(Path(rung.staged))
        drop_work(plan)


def _bring_data_home(plan: Plan, original: Path, places: list[Path]) -> None:
    """Rename each data folder from wherever the climb has brought it into the old tree."""
    for first, later in plan.data_folders():
        if nolinks.is_there(original / first):
            continue
        found = [place / name for place in places if place != original for name in dict.fromkeys((first, *later))]
        there = next((path for path in found if nolinks.is_there(path)), None)
        if there is not None:
            move_folders([(there, original / first)])


def put_in_place(
    root: Path, incoming: Path, inode: int, outgoing: Path, exchange: Exchange = nolinks.exchange_in_one_instant
) -> bool:
    """Make the tree with `inode`, which lies at `incoming`, the root; the old tree ends at `outgoing`.

    Returns whether the kernel did it in one instant. Raises AnswerNo when neither place holds the tree.
    """
    private_folder(outgoing.parent)
    in_one_instant = True
    if inode_of(root) != inode:
        if inode_of(incoming) != inode:
            text = f"the tree that should become {root} is not at {incoming} any more"
            raise AnswerNo(Problem("tree-gone", text, "go back with `yl descend`", str(incoming)))
        if not inode_of(root):
            # The exchange was not in one instant, and what is missing is its second half.
            nolinks.rename(incoming, root)  # killed between two renames: root had gone aside
        elif not exchange(root, incoming):
            in_one_instant = False
            nolinks.rename(root, outgoing)
            nolinks.sync_folder(outgoing.parent)
            nolinks.rename(incoming, root)
        nolinks.sync_folder(root.parent)
        nolinks.sync_folder(incoming.parent)
    if inode_of(incoming):
        nolinks.rename(incoming, outgoing)
        nolinks.sync_folder(outgoing.parent)
    return in_one_instant


def move_folders(pairs: Sequence[tuple[Path, Path]]) -> int:
    """Rename each (source, target); a pair that was renamed before is left alone. Returns how many were renamed now.

    Raises AnswerNo when both names exist: then it is not known which one is the site's.
    """
    count = 0
    for source, target in pairs:
        if not nolinks.is_there(source):
            continue
        if nolinks.is_there(target):
            text = f"both {source} and {target} are there, and only one should be"
            raise AnswerNo(Problem("two-folders", text, "look which one is the site's, remove the other", str(target)))
        nolinks.rename(source, target)
        # The new name first: a power cut in between leaves the folder under one name or the other.
        nolinks.sync_folder(target.parent)
        nolinks.sync_folder(source.parent)
        count += 1
    return count
