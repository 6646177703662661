"""Merging settings: the hand-made cases by structure and by lines, and how long merges take.

.venv/bin/python benchmarks/settings.py          prints the table of docs/settings-merging.md, and times
"""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.merging import Case, cases

from yellow_ladder.settings.document import Document, form_named, merge_documents
from yellow_ladder.settings.formats.kinds import FORMATS

LONG: dict[str, Callable[[int], str]] = {
    "ini": lambda n: f"; comment {n}\nkey{n} = {n}\n",
    "yaml": lambda n: f"key{n}:\n  value: {n}\n",
    "json": lambda n: f'  "key{n}":\n    {n},\n',
    "toml": lambda n: f"# comment {n}\nkey{n} = {n}\n",
    "xml": lambda n: f'  <!-- {n} -->\n  <entry name="key{n}" value="{n}"/>\n',
    "braces": lambda n: f"# {n}\nkey{n} {n};\n",
    "properties": lambda n: f"# {n}\nkey{n}={n}\n",
    "php": lambda n: f"// {n}\ndefine('KEY{n}', {n});\n",
}
AROUND = {"json": ("{\n", '  "end": 0\n}\n'), "xml": ("<all>\n", "</all>\n"), "php": ("<?php\n", "")}


def table(found: list[Case]) -> None:
    rows: dict[str, list[int]] = {}
    with tempfile.TemporaryDirectory() as scratch:
        for case in found:
            row = rows.setdefault(form_named(case.form, case.file, case.base).name, [0] * 6)
            merged = case.merged()
            count, made = case.merged_by_lines(Path(scratch))
            row[0] += 1
            row[1] += merged.raw.decode() == case.wanted
            row[2] += bool(merged.conflicts) and not case.conflicts
            row[3] += count == 0 and made.decode() == case.wanted
            row[4] += count > 0 and not case.conflicts
            row[5] += count == 0 and made.decode() != case.wanted
    print("| format | cases | as wanted | asked for nothing | by lines: as wanted | asked for nothing | wrong |")
    print("|---|---|---|---|---|---|---|")
    for name, row in sorted(rows.items()):
        print(f"| {name} | " + " | ".join(map(str, row)) + " |")
    total = [sum(row[place] for row in rows.values()) for place in range(6)]
    print("| **all** | " + " | ".join(map(str, total)) + " |")


def long_file(name: str, lines: int) -> None:
    form = FORMATS[name]
    before, after = AROUND.get(name, ("", ""))
    base = before + "".join(LONG[name](n) for n in range(lines // 2)) + after
    piece = LONG[name](5_000)
    mine = base.replace(piece, "5001".join(piece.rsplit("5000", 1)))
    new = base.replace(LONG[name](7_000), LONG[name](7_000) + LONG[name](900_001))
    start = time.process_time()  # the processor's, since other work shares this machine
    old, own, fresh = (Document(text.encode(), form) for text in (base, mine, new))
    merged = merge_documents(old, own, fresh)
    took = time.process_time() - start
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{name:12} {base.count(chr(10)):7,} lines  {took:5.2f} s  {len(merged.outcomes)} told  {peak:,.0f} MiB at most"
    )


def many_files(found: list[Case], count: int) -> None:
    start = time.process_time()
    for number in range(count):
        found[number % len(found)].merged()
    print(f"{count:,} files merged in {time.process_time() - start:.2f} s")


if __name__ == "__main__":
    everything = cases()
    table(everything)
    print()
    many_files(everything, 1_000)
    for each in LONG:
        long_file(each, 50_000)
