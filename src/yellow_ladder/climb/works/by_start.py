"""Migrates by starting the release: shut away from users, watched for the sign that it is done, and stopped again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from yellow_ladder.climb.record.plan import RungPlan
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.patience import WhileItStarts
from yellow_ladder.climb.works.services import come_to_rest, let_in
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.release.commands import ByStart
from yellow_ladder.release.sheet import Migration
from yellow_ladder.services import service_of
from yellow_ladder.site.service_records import Ready, ServiceRecord
from yellow_ladder.site.site import Site


def migrate_by_start(rung: RungPlan, migration: Migration) -> Work:
    """The work of one first start. Begun again after a kill, it stops what runs by then and starts anew."""

    def do(run: Run) -> Facts:
        by = migration.by_start
        if by is None:
            return {}
        specs = started_for(run.site, by, run.plan.running)
        _stop(run.site, specs)
        let_in(run)
        with _stopped_at_the_end(run, specs):
            for spec in specs:
                is_asked = spec.name == (by.service or specs[-1].name)
                service_of(run.site, _with_sign(spec, by) if is_asked else spec).start(WhileItStarts(run))
        come_to_rest(run)
        return {"summary": f"{rung.to_version} was started, has migrated, and is stopped again"}

    return do


def started_for(site: Site, by: ByStart, running: tuple[str, ...] = ()) -> list[ServiceRecord]:
    """The services of a first start: the one that is named and those before it, or all that ran.

    Raises BadInput where the site has none such.
    """
    specs: list[ServiceRecord] = [one for one in site.record.services if not one.holds]
    names = [one.name for one in specs]
    if by.service and by.service not in names:
        text = f"the release migrates when the service `{by.service}` is started, which the site file does not have"
        raise BadInput(Problem("no-such-service", text, "name the service that runs it so", by.service))
    if by.service:
        return specs[: names.index(by.service) + 1]
    found = [one for one in specs if one.name in running] or specs
    if not found:
        text = "the release migrates when it is started, and the site file has no [[services]] to start"
        raise BadInput(Problem("no-such-service", text, "add the service that runs it", "services"))
    return found


def _with_sign(spec: ServiceRecord, by: ByStart) -> ServiceRecord:
    """The service, ready when the migration is done, and not when it usually is."""
    sign = Ready(
        url=by.url, status=by.status, log_line=by.log_line, failed=by.failed,
        query=by.query, wanted=by.wanted, database=by.database, within_s=by.within_s,
    )  # fmt: skip
    if (by.log_line or by.failed) and not spec.log:
        text = f"the release tells in its log that it has migrated, and the service `{spec.name}` has no `log`"
        raise BadInput(Problem("no-log", text, "name the file that it writes to under `log`", spec.name))
    return spec.model_copy(update={"ready": sign})


@contextmanager
def _stopped_at_the_end(run: Run, specs: list[ServiceRecord]) -> Iterator[None]:
    try:
        yield
    finally:
        _stop(run.site, specs)


def _stop(site: Site, specs: list[ServiceRecord]) -> None:
    for spec in reversed(specs):
        service_of(site, spec).stop()
