"""Which settings differ from what the installed release ships."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass

from yellow_ladder.errors import LadderError
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.notes import shown
from yellow_ladder.settings.reading import read_settings
from yellow_ladder.settings.shipped import Installed, own_files, secret_files, shipped_along
from yellow_ladder.settings.tree import Broken
from yellow_ladder.site.site import Site


@dataclass(frozen=True, slots=True)
class OwnSettings:
    """One settings file: how it is read, how many keys it has, and those that are not as shipped (key, shipped, here);
    a value that sounds like a secret is masked. `against` is empty where nothing tells how it was shipped.
    """

    file: str
    form: str
    keys: int
    against: str = ""
    own: tuple[tuple[str, str, str], ...] = ()


def own_settings(site: Site, installed: Installed | None) -> tuple[OwnSettings, ...]:
    """The site's settings files against the installed release's; one that cannot be read is left to the checks."""
    found = []
    with contextlib.suppress(OSError, LadderError):
        shipped, _ = shipped_along(site, installed, [])
        secret = secret_files(site)
        for one in own_files(site):
            if one.is_new:
                continue
            mine = read_settings(one.raw, one.form, one.file, encoding=one.encoding)
            values = mine.values()
            base = shipped.get(one.file)
            differing: tuple[tuple[str, str, str], ...] = ()
            against = ""
            if base is not None and base.raw is not None:
                with contextlib.suppress(Broken):
                    before = Document(base.raw, mine.form, one.encoding).values()
                    against = base.where
                    hidden = one.file in secret
                    differing = tuple(
                        (key, shown(key, before.get(key), secret=hidden), shown(key, values.get(key), secret=hidden))
                        for key in dict.fromkeys((*before, *values))
                        if before.get(key) != values.get(key)
                    )
            found.append(OwnSettings(one.file, mine.form.name, len(values), against, differing))
    return tuple(found)
