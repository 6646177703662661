"""What a release would have to declare for a proof to pass, as narrowly as it was seen: for people to judge."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import tomlkit
from tomlkit.items import AoT, Table

from yellow_ladder.climb.proving.inventory import AFTER_NAME, BEFORE_NAME, read_inventory
from yellow_ladder.climb.proving.proof import Proof
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.durable import write_whole
from yellow_ladder.fingerprints.judge import Verdict
from yellow_ladder.fingerprints.records import ColumnSums, DatabasePrint, TablePrint

PROPOSAL_NAME = "seen-contract.toml"
_HEAD = """\
What this climb saw change in the data and no release had declared. Nobody has said that it is right: hold each line
against what the release says of itself, and put those that are meant into its sheet. What is declared too loosely is
not compared any more.
"""


def write_proposal(plan: Plan, proof: Proof) -> Path | None:
    """Write the declarations that are missing into the climb's folder; None where none would help."""
    before, after = read_inventory(plan, BEFORE_NAME), read_inventory(plan, AFTER_NAME)
    contracts = tomlkit.aot()
    for name, verdicts in proof.tables.items():
        differing = {one.table for one in verdicts if one.verdict is Verdict.DIFFERS}
        _add(contracts, name, differing, before.databases[name], after.databases[name])
    if not contracts:
        return None
    document = tomlkit.document()
    for line in _HEAD.splitlines():
        document.add(tomlkit.comment(line))
    document.add("contract", contracts)
    path = plan.folder / PROPOSAL_NAME
    write_whole(path, tomlkit.dumps(document).encode())
    return path


def _add(contracts: AoT, name: str, differing: Iterable[str], before: DatabasePrint, after: DatabasePrint) -> None:
    seen = set(differing)
    contract, tables = tomlkit.table(), tomlkit.aot()
    contract.add("database", name)
    for key, names in (
        ("tables_added", [one for one in after.tables if one in seen and one not in before.tables]),
        ("tables_dropped", [one for one in before.tables if one in seen and one not in after.tables]),
        ("objects_dropped", [one for one in before.objects if one in seen and one not in after.objects]),
    ):
        if names:
            contract.add(key, sorted(names))
    for table in sorted(seen & before.tables.keys() & after.tables.keys()):
        change = _change(table, before.tables[table], after.tables[table])
        if len(change) > 1:
            tables.append(change)
    if tables:
        contract.add("tables", tables)
    if len(contract) > 1:
        contracts.append(contract)


def _change(name: str, old: TablePrint, new: TablePrint) -> Table:
    change = tomlkit.table()
    change.add("name", name)
    both = [one for one in old.names if one in new.names]
    for key, columns in (
        ("columns_added", [one for one in new.names if one not in old.names]),
        ("columns_dropped", [one for one in old.names if one not in new.names]),
    ):
        if columns:
            change.add(key, columns)
    if old.rows != new.rows:
        change.add("rows", "grow" if new.rows > old.rows else "any")
        return change
    same_key = old.key == new.key
    changed = [one for one in both if _differs(old.columns.get(one), new.columns.get(one), same_key=same_key)]
    if changed:
        change.add("columns_changed", changed)
    return change


def _differs(old: ColumnSums | None, new: ColumnSums | None, *, same_key: bool) -> bool:
    if old is None or new is None:
        return False
    if same_key:
        return old != new
    return (old.values, old.loose) != (new.values, new.loose)
