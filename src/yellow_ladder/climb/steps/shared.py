"""Steps that both ways have: services are stopped in reverse order and started in order."""

from __future__ import annotations

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.works.services import come_to_rest, let_in, start_service, stop_service


def stop_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Stop every service, the one that was started last first."""
    names = [spec.name for spec in plan.site.record.services if not spec.holds]
    return [Step(StepName(kind, name), f"stop {name}", stop_service(name)) for name in reversed(names)]


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
