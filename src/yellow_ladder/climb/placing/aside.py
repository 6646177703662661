"""Where new files are made ready and what they replace lies meanwhile, whatever the kind of placement."""

from __future__ import annotations

from pathlib import Path

from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.exchange import inode_of, same_file_system


class OnTheSameDisk:
    """What placements have in common that rename: everything lies on the file system of root."""

    def work_folder(self, root: Path, climb_folder: Path) -> Path:
        """The climb's folder; beside root where the state folder is on another file system."""
        if same_file_system(climb_folder, root):
            return climb_folder
        return root.with_name(f".{root.name}.{climb_folder.name}")

    def mark_of(self, tree: Path) -> int:
        """The inode number of its folder."""
        return inode_of(tree)

    def kept_bytes(self, plan: Plan) -> int:
        """Bytes of the files that lie aside."""
        return bytes_below(aside_folder(plan))


def aside_folder(plan: Plan) -> Path:
    """Where what is replaced lies: on the file system of root."""
    return Path(plan.work) / "aside"


def aside_of(plan: Plan, rung: RungPlan) -> Path:
    """Where what a rung replaces is put."""
    return aside_folder(plan) / f"{rung.number}-{rung.from_version}"


def drop_work(plan: Plan) -> None:
    """Remove the work folder, where it is not the climb's own."""
    if Path(plan.work) != plan.folder:
        remove_entry(Path(plan.work))


def bytes_below(folder: Path) -> int:
    """Bytes of the files below a folder."""
    return sum(one.lstat().st_size for one in folder.rglob("*") if one.is_file() and not one.is_symlink())
