"""Steps that both ways have: services are stopped in reverse order and started in order."""

from __future__ import annotations

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.works.services import start_service, stop_service


def stop_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Stop every service, the one that was started last first."""
    names = [spec.name for spec in plan.site.record.services]
    return [Step(StepName(kind, name), f"stop {name}", stop_service(name)) for name in reversed(names)]


def start_steps(plan: Plan, kind: StepKind) -> list[Step]:
    """Start the services that ran when the plan was made."""
    names = [spec.name for spec in plan.site.record.services if spec.name in plan.running]
    return [Step(StepName(kind, name), f"start {name}", start_service(name)) for name in names]
