"""The steps of going back, in order: restore the backup, the quick way where the old tree still lies aside."""

from __future__ import annotations

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.works.door import close_site, open_site
from yellow_ladder.climb.works.going_back import keep_what_is_newer, put_tree_back, restore_all_files, restore_database
from yellow_ladder.climb.works.proofs import prove_back
from yellow_ladder.climb.works.services import start_service, stop_service
from yellow_ladder.climb.works.sitefile import take_back_moves
from yellow_ladder.climb.works.tidying import tidy_back


def steps_down(plan: Plan, standing: Standing) -> list[Step]:
    """Every step back to the serving old version; where nothing was changed yet, only the site is opened again.

    A pure function of the plan and of what the journal says of the way up.
    """
    names = [spec.name for spec in plan.site.record.services]
    steps = [
        Step("back:close", "close the site to its users", lambda run: {"summary": close_site(run.site, part_way=True)}),
        *(Step(f"back:stop:{name}", f"stop {name}", stop_service(name)) for name in reversed(names)),
    ]
    if standing.has_backup:
        if standing.was_open_to_users:
            steps.append(Step("back:keep-newer", "keep what was written since", keep_what_is_newer))
        steps += [
            Step("back:tree", "put the old tree back", put_tree_back),
            Step("back:files", "restore every file from the backup that differs", restore_all_files),
            *(
                Step(
                    f"back:database:{spec.name}",
                    f"restore the database {spec.name}",
                    restore_database(spec.name),
                )
                for spec in plan.site.record.databases
            ),
            Step("back:site-file", "give the site file its old paths", lambda run: take_back_moves(run.plan)),
        ]
    return [
        *steps,
        *(Step(f"back:start:{n}", f"start {n}", start_service(n)) for n in names if n in plan.running),
        Step("back:prove", "compare all data and files with before", prove_back),
        Step("back:open", "open the site to its users", lambda run: {"summary": open_site(run.site)}),
        Step("back:tidy", "remove what is needed no more", tidy_back),
    ]
