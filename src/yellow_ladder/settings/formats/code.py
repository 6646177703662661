"""Settings that are code: assignments, `define`-style calls and returned arrays are read without running anything.

Whatever else the file holds is text, and is merged line by line.
"""

from __future__ import annotations

import ast
import json
import re
from dataclasses import dataclass

from yellow_ladder.settings.formats.bracket import Grammar, Scanner, plain, settle_commas
from yellow_ladder.settings.formats.pieces import as_lines_of_comment, end_line, pad_of
from yellow_ladder.settings.tree import Broken, Node


@dataclass(frozen=True, slots=True)
class Language:
    """How a scripting language writes what settings files hold.

    `target` matches what is assigned to, up to the sign of assignment, with groups (name, sign); `call` a call that
    defines a name, up to its value. `ends` are what may end a statement.
    """

    name: str
    grammar: Grammar
    target: str
    call: str = ""
    returns: str = ""
    ends: str = ";\n"
    semicolon: bool = False
    first: str = ""
    indented: bool = False
    comment: str = "//"


_CURLY = (("{", "}"), ("[", "]"))
PHP = Language(
    name="php",
    grammar=Grammar(
        line_comments=("//", "#"), block_comments=True, quotes="\"'", arrows=("=>",), trailing=True,
        brackets=(("[", "]"), ("array(", ")"), ("array (", ")"), ("Array(", ")")),
    ),
    target=r"((?:const\s+|static\s+)?\$?[A-Za-z_][\w>-]*(?:\s*\[[^\]\n]*\]|->\w+|::\$?\w+)*)(\s*=(?![=>~])\s*)",
    call=r"(define\s*\(\s*)(\"[^\"\n]*\"|'[^'\n]*')(\s*,\s*)",
    returns=r"(return)(\s+|(?=\[))(?=\[|array\s*\()",
    ends=";",
    semicolon=True,
    first=r"<\?(?:php)?[ \t]*\n?",
)  # fmt: skip
JAVASCRIPT = Language(
    name="javascript",
    grammar=Grammar(
        line_comments=("//",), block_comments=True, quotes="\"'`", arrows=(":",), trailing=True, brackets=_CURLY
    ),
    target=r"((?:export\s+)?(?:const\s+|let\s+|var\s+)?[A-Za-z_$][\w$]*(?:\.[\w$]+|\[[^\]\n]*\])*)(\s*=(?![=>])\s*)",
    returns=r"(export default)(\s+)(?=[{\[])",
)
PYTHON = Language(
    name="python",
    grammar=Grammar(
        line_comments=("#",), quotes="\"'", triple=True, arrows=(":",), trailing=True,
        brackets=(*_CURLY, ("(", ")")),
    ),
    target=r"([A-Za-z_]\w*(?:\.\w+|\[[^\]\n]*\])*(?:[ \t]*:[ \t]*[\w.\[\], |]+?)?)([ \t]*=(?!=)[ \t]*)",
    ends="\n;",
    indented=True,
    comment="#",
)  # fmt: skip
RUBY = Language(
    name="ruby",
    grammar=Grammar(line_comments=("#",), quotes="\"'", arrows=("=>", ":"), trailing=True, brackets=_CURLY),
    target=r"([A-Za-z_$@][\w]*(?:\.\w+|\[[^\]\n]*\])*)(\s*=(?![=>~])\s*)",
    ends="\n;",
    indented=True,
    comment="#",
)
PERL = Language(
    name="perl",
    grammar=Grammar(
        line_comments=("#",), quotes="\"'", arrows=("=>",), trailing=True, brackets=(*_CURLY, ("(", ")")),
    ),
    target=r"((?:our\s+|my\s+)?[$@%][A-Za-z_][\w:]*(?:->)?(?:\{[^}\n]*\}|\[[^\]\n]*\])*)(\s*=(?![=~])\s*)",
    call=r"([Ss]et\s*\(\s*)([$@%][A-Za-z_]\w*)(\s*,\s*)",
    ends=";",
    semicolon=True,
    comment="#",
)  # fmt: skip


class Code:
    """A settings file in a scripting language."""

    def __init__(self, language: Language) -> None:
        """Make the format of a language."""
        self.language = language
        self.name, self.comment = language.name, language.comment
        self._target = re.compile(language.target)
        self._call = re.compile(language.call) if language.call else None
        self._returns = re.compile(language.returns) if language.returns else None

    def parse(self, text: str) -> Node:
        """Read a file: what is an assignment of the file itself becomes a key, all else is text."""
        scanner = Scanner(self.language.grammar, text)
        root = Node("", parts=[])
        pending = ""
        if self.language.first and (found := re.match(self.language.first, text)):
            # The file's own: whichever key comes first, it stands above it.
            root.head, scanner.at = found[0], found.end()
        while True:
            pending += scanner.between()
            if scanner.at >= len(text):
                root.foot = pending
                return root
            start = scanner.at
            node = self._statement(scanner, pending)
            if node is None:
                scanner.at = start
                node = Node("", pending, value=self._rest_of_statement(scanner), opaque=True)
                before = root.children[-1] if root.parts else None
                if before is not None and before.opaque:
                    before.value = (before.value or "") + node.text
                else:
                    node.name = f"lines after {before.name}" if before is not None else "first lines"
                    root.children.append(node)
            else:
                root.children.append(node)
            pending = ""

    def _statement(self, scanner: Scanner, lead: str) -> Node | None:
        """The assignment, definition or returned array that begins here; None where it is something else."""
        text, start = scanner.text, scanner.at
        column = start - (text.rfind("\n", 0, start) + 1)
        if self.language.indented and column:
            return None
        name, foot = "", ""
        call = self._call.match(text, start) if self._call else None
        found = call or self._target.match(text, start) or (self._returns.match(text, start) if self._returns else None)
        if found is None:
            return None
        name = _name(plain(found[2]) if call else found[1])
        scanner.at = found.end()
        try:
            # What is set of a list or a table goes on to the end of the call.
            ends = ")" if call and found[2].startswith(("@", "%")) else ",)"
            node = scanner.value(ends if call else self.language.ends)
            if call:
                mark = scanner.at
                scanner.between()
                if not text.startswith(")", scanner.at):
                    return None
                scanner.at += 1
                foot = text[mark : scanner.at]
        except (Broken, RecursionError):
            scanner.depth = 0
            return None
        node.name, node.lead, node.head, node.foot = name, lead, found[0] + node.head, node.foot + foot
        node.labels = (" ".join((node.value or node.text).split()),)
        mark = scanner.at
        gap = scanner.between()
        if text.startswith(";", scanner.at):
            node.foot, node.sep, scanner.at = node.foot + gap, ";", scanner.at + 1
        elif self.language.semicolon:
            return None
        else:
            scanner.at = mark
        node.tail = scanner.line_rest()
        if not node.tail.endswith("\n") and scanner.at < len(text):
            return None  # the expression goes on
        return node

    def _rest_of_statement(self, scanner: Scanner) -> str:
        """A statement that is not understood: whole lines up to where all its brackets are closed."""
        text, start = scanner.text, scanner.at
        depth = 0
        while scanner.at < len(text):
            char = text[scanner.at]
            if char == "\n" and depth <= 0:
                scanner.at += 1
                if not self.language.indented or text[scanner.at : scanner.at + 1] not in (" ", "\t", "\n"):
                    break
                continue
            try:
                if char in self.language.grammar.quotes:
                    scanner._pass_string()
                    continue
                if scanner._pass_comment():
                    continue
            except Broken:
                scanner.at = len(text)
                break
            depth += (char in "([{") - (char in ")]}")
            scanner.at += 1
        return text[start : scanner.at]

    def is_sound(self, text: str) -> bool:
        """Whether a text is of the language, as far as that can be told without running it."""
        if self.name != "python":
            return True
        try:
            ast.parse(text)
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            return False
        return True

    def meaning(self, node: Node) -> str:
        """A literal without its quotation marks; anything else, a list of several too, as it is written."""
        value = node.value or ""
        bare = plain(value)
        return value if bare != value.strip() and re.search(rf"(?<!\\){value.strip()[0]}\s*,", bare) else bare

    def settle(self, block: Node) -> None:
        """Commas inside of brackets; a line for each statement."""
        if _is_in_brackets(block):
            settle_commas(block, trailing=True)
        else:
            for part in block.children:
                end_line(part)

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A statement like the last one of the file, or a member of an array."""
        lead = "".join(f"{self.comment} {line}".rstrip() + "\n" for line in comment.splitlines())
        if block.name or _is_in_brackets(block):
            pad = next(map(pad_of, block.children), "    ")
            arrow = self.language.grammar.arrows[0]
            blank = " " if arrow == "=>" else ""
            return Node(name, lead + pad, f"'{name}'{blank}{arrow} ", self.written(value))
        end = ";" if self.language.semicolon else ""
        returned = [one.name for one in block.children if one.parts is not None and one.name in _RETURNED]
        if returned:
            raise Broken(f"keys of what it returns are named {returned[0]}.{name}")
        if block.children and all(one.opaque for one in block.children):
            raise Broken("it has no settings that a key could be put beside")
        if self.name == "perl" and any(one.head.lower().startswith("set") for one in block.children):
            return Node(name, lead, f"Set(${name}, ", self.written(value), foot=")", sep=end, tail="\n")
        if self.name == "php" and re.fullmatch(r"[A-Z_][A-Z0-9_]*", name) and _are_defined(block):
            return Node(name, lead, f"define('{name}', ", self.written(value), foot=")", sep=end, tail="\n")
        return Node(name, lead, f"{self._target_like(block, name)} = ", self.written(value), sep=end, tail="\n")

    def _target_like(self, block: Node, name: str) -> str:
        """What is assigned to, written as what is assigned to beside it: `$cfg['mail']['from']`, `our $depth`."""
        if name[:1] in ("$", "@", "%"):
            raise Broken(f"keys are named without their sign: {name.lstrip('$@%')}")
        first, *rest = name.split(".")
        if not re.fullmatch(r"\w+", first) or not all(re.fullmatch(r"[\w *:/@-]+", part) for part in rest):
            raise Broken(f"{name!r} is no name that it could have there")
        heads = [(one.name, one.head) for one in block.children if one.name and not one.opaque]
        kin = [head for other, head in heads if other.startswith(f"{first}.")]
        if rest and kin:
            model = kin[-1]
            return model[: model.index(first) + len(first)] + "".join(_part_like(model, part) for part in rest)
        if rest and self.name != "php":
            raise Broken(f"there is no {first!r} in this file that could be given {'.'.join(rest)!r}")
        model = heads[-1][1] if heads else ""
        words = re.match(r"(?:(?:export|const|let|var|our|my|static)\s+)*", model)
        qualifier = words[0] if words is not None and not rest else ""
        if "$" in _SIGNS[self.name] and "const" not in qualifier:
            qualifier += "$"
        return qualifier + first + "".join(f"['{part}']" for part in rest)

    def written(self, value: str) -> str:
        """A value of a sheet: numbers, words and what is between marks as they are, else as a text."""
        if re.fullmatch(
            r"-?\d+(\.\d+)?|true|false|null|True|False|None|nil|'[^'\n]*'|\"[^\"\n]*\"|\[.*\]|\{.*\}", value
        ):
            return value
        return (
            json.dumps(value, ensure_ascii=False)
            if self.name not in ("php", "perl", "ruby")  # there, more than the value could be read in quotes
            else "'" + re.sub(r"(['\\])", r"\\\1", value) + "'"
        )

    def new_block(self, above: Node, name: str) -> Node:
        """Not made: how the application nests its settings is not known."""
        raise Broken(f"there is no {name!r} in this file")

    def renamed(self, node: Node, name: str) -> None:
        """Write another name where the old one stands."""
        last, new = node.name.rpartition(".")[2], name.rpartition(".")[2]
        at = node.head.rfind(last)
        if at < 0:
            raise Broken(f"the name {node.name!r} is written in a way that cannot be changed")
        node.head, node.name = node.head[:at] + new + node.head[at + len(last) :], name

    def as_comment(self, node: Node, reason: str) -> str:
        """A statement as lines of comment."""
        return as_lines_of_comment(node, self.comment, reason)


_RETURNED = ("return", "export default")
_SIGNS = {"php": "$", "perl": "$", "javascript": "", "python": "", "ruby": ""}


def _is_in_brackets(block: Node) -> bool:
    """Whether a block ends with a bracket, behind comments or at once."""
    return bool(block.head) and block.foot.rstrip().rpartition("\n")[2].lstrip()[:1] in (")", "]", "}")


def _are_defined(block: Node) -> bool:
    """Whether a file defines constants, or has nothing that tells what else it would do."""
    heads = [one.head.lstrip() for one in block.children if one.name and not one.opaque]
    return not heads or any(head.lower().startswith("define") for head in heads)


def _part_like(model: str, part: str) -> str:
    """A further part of a name, joined as in another one."""
    if "->" in model:
        return f"->{part}"
    if "[" in model or "{" in model:
        opens, closes = ("[", "]") if "[" in model else ("{", "}")
        quote = '"' if f'{opens}"' in model else "'" if f"{opens}'" in model else ""
        return f"{opens}{quote}{part}{quote}{closes}"
    return f".{part}"


def _name(target: str) -> str:
    """`$cfg['mail']["from"]` as cfg.mail.from."""
    bare = re.sub(r"^(?:export\s+|const\s+|static\s+|let\s+|var\s+|our\s+|my\s+)+", "", target.strip())
    bare = re.sub(r"->(?=\w)", ".", bare)
    bare = re.sub(r"\s*[\[{]\s*['\"]?([^\]}'\"]*)['\"]?\s*[\]}]", r".\1", bare)
    return bare.partition(":")[0].strip().lstrip("$@%") if "::" not in bare else bare.lstrip("$")
