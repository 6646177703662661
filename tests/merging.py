"""The hand-made cases of merging settings: read from settings_cases/, and merged by us and by lines."""

from __future__ import annotations

import subprocess
import tomllib
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.settings.document import Document, Merged, form_named, merge_documents
from yellow_ladder.settings.merging.outcomes import Decider, undecided

FOLDER = Path(__file__).parent / "settings_cases"


@dataclass(frozen=True, slots=True)
class Case:
    """One case: three versions of a file, what is wanted, and what has to be asked."""

    name: str
    file: str
    form: str
    base: str
    mine: str
    new: str
    wanted: str
    conflicts: tuple[str, ...]

    def merged(self, decide: Decider = undecided, *, swapped: bool = False) -> Merged:
        """The three versions merged by structure."""
        form = form_named(self.form, self.file, self.base)
        base, mine, new = (Document(text.encode(), form) for text in (self.base, self.mine, self.new))
        return merge_documents(base, new, mine, decide) if swapped else merge_documents(base, mine, new, decide)

    def merged_by_lines(self, folder: Path) -> tuple[int, bytes]:
        """How many conflicts a merge by lines has, and what it makes."""
        for name, text in (("base", self.base), ("mine", self.mine), ("new", self.new)):
            (folder / name).write_text(text)
        done = subprocess.run(
            ["git", "merge-file", "-p", *(str(folder / one) for one in ("mine", "base", "new"))], capture_output=True
        )
        return done.returncode, done.stdout


def cases() -> list[Case]:
    """All of them."""
    found = []
    for path in sorted(FOLDER.glob("*.toml")):
        content = tomllib.loads(path.read_text())
        for case in content["case"]:
            of = content[case["of"]]
            base = of["text"].lstrip("\n")
            mine, new = _edited(base, case["mine"], case), _edited(base, case["new"], case)
            wanted = case.get("wanted", [*case["mine"], *case["new"]])
            found.append(
                Case(
                    case["name"], of["file"], of.get("format", ""), base, mine, new,
                    _edited(base, wanted, case), tuple(case.get("conflicts", ())),
                )
            )  # fmt: skip
    return found


def _edited(text: str, edits: list[list[str]], case: dict[str, object]) -> str:
    for old, new in edits:
        if text.count(old) != 1:
            raise ValueError(f"{case['name']}: {old!r} stands {text.count(old)} times")
        text = text.replace(old, new)
    return text
