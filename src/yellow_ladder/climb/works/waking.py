"""Asks a site whose services have just been started what they are, and asks again while they only wake up."""

from __future__ import annotations

import time

from yellow_ladder.climb.proving.inventory import ask_probes
from yellow_ladder.climb.running.run import Run
from yellow_ladder.events import Note
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import ask_all
from yellow_ladder.survey.records import ProbeAnswer
from yellow_ladder.words import time_in_words

_AGAIN_AFTER_S, _TELL_AFTER_S, _START_S = 0.5, 5.0, 30.0


def ask_awake(run: Run, site: Site) -> tuple[ProbeAnswer, ...]:
    """What all probes of a site say whose services have just been started.

    A program may open its port, and say that it is well, before its pages are there: a page that tells no version is
    asked again, for as long as a start may take. One that tells another version is taken at its word. Raises
    StoppedPartWay where somebody asked to stop meanwhile.
    """
    within_s = max((one.ready.within_s for one in site.record.services if one.ready), default=_START_S)
    began, told = time.monotonic(), False
    while silent := [one for one in ask_all(site, ("served",)) if one.trouble]:
        since_s = time.monotonic() - began
        if since_s >= within_s:
            break
        if since_s >= _TELL_AFTER_S and not told:
            told = True
            text = f"waiting for {silent[0].where}, for at most {time_in_words(within_s)}: {silent[0].trouble}"
            run.listen(Note(text))
        run.look_on()
        time.sleep(_AGAIN_AFTER_S)
    return ask_probes(site, served=True)
