"""Steps that both ways have: services are stopped in reverse order and started in order."""

from __future__ import annotations

from yellow_ladder.climb.record.commands import commands_at
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.works.commands import command
from yellow_ladder.climb.works.servers import start_server, step_of, stop_newer_server, stop_server
from yellow_ladder.climb.works.services import come_to_rest, let_in, start_service, stop_service
from yellow_ladder.release.commands import Point

# Here the services are stopped and others are kept out of the databases.
_AT_REST = (
    Point.CLOSED, Point.PLACED, Point.BEFORE_MIGRATIONS, Point.AFTER_MIGRATIONS, Point.BEFORE_START, Point.GOING_BACK,
)  # fmt: skip


def command_steps(plan: Plan, at: Point, rung: RungPlan | None = None) -> list[Step]:
    """Run the commands of one point. What is run before the site closes changes nothing that is gone back from."""
    kind = StepKind.BACK_COMMAND if at is Point.GOING_BACK else StepKind.COMMAND
    return [
        Step(
            StepName(kind, one.of),
            f"run `{one.name}`",
            command(one, at_rest=at in _AT_REST),
            touches_site=at not in (Point.SETTINGS, Point.BEFORE_CLOSE),
            twice=one.keys.twice,
        )
        for one in commands_at(plan, at, rung)
    ]


def stop_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Stop every service, the one that was started last first."""
    names = [spec.name for spec in plan.site.record.services if not spec.holds]
    return [Step(StepName(kind, name), f"stop {name}", stop_service(name)) for name in reversed(names)]


def server_steps(plan: Plan, rung: RungPlan, kind: StepKind) -> list[Step]:
    """Stop or start the database servers of the site where a release takes its place."""
    if rung.is_passage:
        return []
    names = [spec.name for spec in plan.site.record.servers]
    if kind is StepKind.SERVER_STOP:
        return [
            Step(StepName(kind, step_of(name, rung.number)), f"stop {name}", stop_server(name))
            for name in reversed(names)
        ]
    return [
        Step(StepName(kind, step_of(name, rung.number)), f"start {name} of {rung.to_version}", start_server(name))
        for name in names
    ]


def servers_back(plan: Plan, kind: StepKind) -> list[Step]:
    """Stop the newer servers of the site, or start the old ones."""
    names = [spec.name for spec in plan.site.record.servers]
    if kind is StepKind.BACK_SERVER_STOP:
        return [Step(StepName(kind, name), f"stop {name}", stop_newer_server(name)) for name in reversed(names)]
    return [Step(StepName(kind, name), f"start {name} of {plan.from_version}", start_server(name)) for name in names]


def rest_step(kind: StepKind) -> Step:
    """See that nothing of the site is at work, and keep others out of its databases."""
    return Step(StepName(kind), "see that nothing of it is at work any more", come_to_rest)


def let_in_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Let others into the databases again, before the services start; a file has no door."""
    has_server = any(not one.is_file for one in plan.site.addresses())
    return [Step(StepName(kind), "let others into the databases", let_in)] if has_server else []


def start_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Start the services that ran when the plan was made."""
    names = [spec.name for spec in plan.site.record.services if spec.name in plan.running and not spec.holds]
    return [Step(StepName(kind, name), f"start {name}", start_service(name)) for name in names]
