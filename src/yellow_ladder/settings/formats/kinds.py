"""The formats that are built, by name, and which of them a file is in. The only place that makes one."""

from __future__ import annotations

import ast
import re
import warnings
from collections.abc import Mapping

from yellow_ladder.settings.formats import code, plain
from yellow_ladder.settings.formats.braces import Braces
from yellow_ladder.settings.formats.json import Json
from yellow_ladder.settings.formats.lined import Lined
from yellow_ladder.settings.formats.lines import Lines
from yellow_ladder.settings.formats.toml import Toml
from yellow_ladder.settings.formats.xml import Xml
from yellow_ladder.settings.formats.yaml import Yaml
from yellow_ladder.settings.port import Format
from yellow_ladder.settings.tree import Broken, leaves

_LINED: list[Format] = [Lined(plain.INI), Lined(plain.UNIT), Lined(plain.GIT), plain.Properties(plain.PROPERTIES),
          plain.Environment(plain.ENVIRONMENT), plain.Environment(plain.SHELL), plain.Directives(plain.DIRECTIVES),
          plain.Directives(plain.ANGLES), Toml()]  # fmt: skip
_CODE: list[Format] = [code.Code(one) for one in (code.PHP, code.JAVASCRIPT, code.PYTHON, code.RUBY, code.PERL)]
_OTHERS: list[Format] = [Braces(), Yaml(), Json("json", comments=False), Json("jsonc", comments=True), Xml(), Lines()]
FORMATS: Mapping[str, Format] = {one.name: one for one in (*_LINED, *_CODE, *_OTHERS)}

_BY_ENDING = {
    "ini": ("ini", "conf"), "cfg": ("ini", "conf"), "cnf": ("ini", "conf"), "properties": ("properties",),
    "env": ("env",), "toml": ("toml",), "yaml": ("yaml",), "yml": ("yaml",), "json": ("json", "jsonc"),
    "jsonc": ("jsonc",), "json5": ("jsonc",), "xml": ("xml",), "php": ("php",), "js": ("javascript",),
    "cjs": ("javascript",), "mjs": ("javascript",), "ts": ("javascript",), "py": ("python",), "rb": ("ruby",),
    "pl": ("perl",), "pm": ("perl",), "sh": ("shell",),
    **dict.fromkeys(("service", "socket", "timer", "mount", "path", "target", "slice"), ("unit",)),
}  # fmt: skip
_OFTEN_PYTHON = ("cfg", "conf", "config", "ini")
_LARGEST_PYTHON = 256 * 1024
_SAMPLES = re.compile(r"[.-](?:dist|default|defaults|sample|example|orig|template|tmpl)$")


def format_of(file: str, text: str) -> Format:
    """The format of a file, by its name, else by what it holds; by lines where nothing fits."""
    name = file.rpartition("/")[2].lower()
    while _SAMPLES.search(name):
        name = _SAMPLES.sub("", name)
    ending = name.rpartition(".")[2]
    if name.startswith(".env") or name == "environment" or "/default/" in f"/{file}":
        return FORMATS["env"]
    if name in (".gitconfig", "gitconfig"):
        return FORMATS["git"]
    if ending in _OFTEN_PYTHON and _is_python(text):
        return FORMATS["python"]
    for one in _BY_ENDING.get(ending, ()):
        if _reads(one, text) or len(_BY_ENDING[ending]) == 1:
            return FORMATS[one]
    if ending in _BY_ENDING:
        return FORMATS[_BY_ENDING[ending][0]]
    return _by_content(text)


def _by_content(text: str) -> Format:
    start = text.lstrip()
    if start.startswith("<?php"):
        return FORMATS["php"]
    if re.match(r"#!\s*\S*/(?:env\s+)?(?:ba|da|k|z)?sh\b", start):
        return FORMATS["shell"]
    if re.match(r"<\?xml|<!--|<[A-Za-z][\w:-]*(\s[^<>]*)?/?>\s*<", start) and _reads("xml", text):
        return FORMATS["xml"]
    if start[:1] in ("{", "["):
        for one in ("json", "jsonc"):
            if _reads(one, text):
                return FORMATS[one]
    if _is_python(text):
        return FORMATS["python"]
    bare = re.sub(r"(?m)^\s*[#;].*$", "", text)
    tries = [
        ("angles", r"(?m)^\s*</\w+>\s*$"),
        ("braces", r"(?m)[;{][ \t]*(?:#.*)?$"),
        ("ini", r"(?m)^\s*\[[^\]\n]+\]\s*$"),
        ("env", r"\A(?:\s*(?:export\s+)?[A-Z_][A-Z0-9_]*=.*(?:\n|\Z))+\s*\Z"),
        ("yaml", r"(?m)^(?:- |[\w-]+:(?:\s|$))"),
        ("conf", r"(?m)^\s*[A-Za-z_][\w.-]*(?:\s*=|\s+\S)"),
    ]
    for one, mark in tries:
        if re.search(mark, bare) and _reads(one, text):
            return FORMATS[one]
    return FORMATS["lines"]


def _is_python(text: str) -> bool:
    """Whether a text is assignments of a Python file. Most other formats with `=` have names there without quotes."""
    if len(text) > _LARGEST_PYTHON:
        return False
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of escapes that Python does not know
            body = ast.parse(text).body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    values = [one.value for one in body if isinstance(one, ast.Assign | ast.AnnAssign) and one.value is not None]
    others = [one for one in body if not isinstance(one, ast.Assign | ast.AnnAssign | ast.Import | ast.ImportFrom)]
    if not values or any(isinstance(one, ast.Name) for one in values):
        return False
    if any(not isinstance(one, ast.Expr) or not isinstance(one.value, ast.Constant | ast.Call) for one in others):
        return False
    signs = ast.List | ast.Dict | ast.Tuple | ast.Set | ast.Call | ast.JoinedStr
    words = [one.value for one in values if isinstance(one, ast.Constant)]
    return any(isinstance(one, signs) for one in values) or any(one is None or isinstance(one, bool) for one in words)


def _reads(name: str, text: str) -> bool:
    """Whether a text is of a format, and has a key in it."""
    try:
        root = FORMATS[name].parse(text)
    except Broken:
        return False
    opaque = sum(len(one.value or "") for one in root.children if one.opaque)
    return next(leaves(root), None) is not None and opaque * 2 <= len(text)
