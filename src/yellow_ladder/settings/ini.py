"""INI files through a parser that keeps comments, order and spacing."""

from __future__ import annotations

import configparser

from configupdater import ConfigUpdater

from yellow_ladder.errors import BadInput, Problem


class IniSettings:
    """One INI file in memory; keys are written section.key. The untouched parts come out as they went in."""

    def __init__(self, text: str, name: str) -> None:
        """Parse; `name` stands in messages. Raises BadInput where it is no INI file."""
        self._name = name
        # The parser knows one kind of line end; the file gets its own back.
        self._ending = "\r\n" if "\r\n" in text else "\n"
        self._updater = ConfigUpdater()
        self._updater.optionxform = str  # type: ignore[assignment,method-assign]  # keys keep their case
        try:
            self._updater.read_string(text.replace("\r\n", "\n"))
        except (configparser.Error, ValueError) as fault:
            reason = str(fault).splitlines()[0]
            text = f"the settings file {name} cannot be read as INI: {reason}"
            raise BadInput(Problem("settings-broken", text, "correct it by hand, then try again", name)) from fault

    def get(self, key: str) -> str | None:
        """The value of a key, None where it is not set."""
        section, option = key.split(".", 1)
        if not self._updater.has_option(section, option):
            return None
        return self._updater[section][option].value or ""

    def values(self) -> dict[str, str]:
        """All keys with their values."""
        return {
            f"{section.name}.{option.key}": option.value or ""
            for section in self._updater.section_blocks()
            for option in section.option_blocks()
        }

    def rename(self, old: str, new: str) -> None:
        """Give a key its new name; in the same section it stays in its place, comments above it too."""
        (old_section, old_option), (new_section, new_option) = old.split(".", 1), new.split(".", 1)
        if old_section == new_section:
            self._updater[old_section][old_option].key = new_option
            return
        value = self._updater[old_section][old_option].value
        self.remove(old)
        self.add(new, value or "", "")

    def add(self, key: str, value: str, comment: str) -> None:
        """Add a key at the end of its section, under its comment."""
        section, option = key.split(".", 1)
        # A line without indentation would be the next key.
        value = value.replace("\n", "\n    ")
        if not self._updater.has_section(section):
            if self._updater.sections():
                self._updater[self._updater.sections()[-1]].add_after.space(1)
            self._updater.add_section(section)
        block = self._updater[section]
        options = list(block.option_blocks())
        if options:
            builder = options[-1].add_after
            for line in comment.splitlines():
                builder = builder.comment(line)
            builder.option(option, value)
        else:
            block[option] = value
            for line in comment.splitlines():
                block[option].add_before.comment(line)

    def remove(self, key: str) -> None:
        """Take a key out."""
        section, option = key.split(".", 1)
        del self._updater[section][option]

    def retire(self, key: str, why: str) -> None:
        """Turn a key into a comment in its place, so that its value and the comments above it can still be read."""
        section, option = key.split(".", 1)
        entry = self._updater[section][option]
        lines = str(entry).rstrip("\n").splitlines()
        reason = f" (retired: {why})" if why else " (retired)"
        builder = entry.add_before
        for place, line in enumerate(lines):
            builder = builder.comment(line + (reason if place == 0 else ""))
        del self._updater[section][option]

    def text(self) -> str:
        """The file as text."""
        return str(self._updater).replace("\n", self._ending)
