"""The house keeps its own rules: sizes, names, seams, errors."""

from __future__ import annotations

import ast
import inspect
import pickle
import tomllib
from collections import Counter
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from string import Formatter

import zembrel
from zembrel import errors
from zembrel.cli.sentences import SENTENCES
from zembrel.engine.executor import Executor
from zembrel.points.model import PointSource
from zembrel.raster.model import HasOverviews, Raster

SOURCE = Path(zembrel.__path__[0])
MODULES = sorted(SOURCE.rglob("*.py"))
MOST_LINES, MOST_CODE, MOST_OF_KERNELS, MOST_PARAMETERS = 300, 40, 60, 6
KERNEL_DECORATORS = (
    "njit", "kernel", "part_of_kernels", "entry(",
)  # fmt: skip  # kernels take arrays and plain numbers, as many as they need


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


def functions(tree: ast.Module) -> Iterator[ast.FunctionDef]:
    return (node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef))


def code_lines(function: ast.FunctionDef, lines: list[str]) -> int:
    first = function.body[1 if ast.get_docstring(function) and len(function.body) > 1 else 0]
    span = lines[first.lineno - 1 : function.end_lineno]
    return sum(1 for line in span if line.strip() and not line.strip().startswith("#"))


def test_modules_and_functions_read_in_one_sitting() -> None:
    faults = {str(path.relative_to(SOURCE)): list(hard_to_read(path)) for path in MODULES}
    assert not {path: found for path, found in faults.items() if found}


def hard_to_read(path: Path) -> Iterator[str]:
    """What makes a module or a function of it too long, or hides what it holds."""
    text = path.read_text()
    tree, lines = parsed(path), text.splitlines()
    if len(lines) > MOST_LINES:
        yield f"{len(lines)} lines"
    if path.stem in ("utils", "helpers", "common", "misc", "base", "manager"):
        yield "a name that says nothing"
    if text and not ast.get_docstring(tree):
        yield "it does not say what it holds"
    for function in functions(tree):
        kernel = any(word in ast.unparse(d) for d in function.decorator_list for word in KERNEL_DECORATORS)
        drawn = "--" in (ast.get_docstring(function) or "")  # a long kernel has a picture of what it does
        most = (10**9 if drawn else MOST_OF_KERNELS) if kernel else MOST_CODE
        if code_lines(function, lines) > most:
            yield f"{function.name} has {code_lines(function, lines)} lines"
        own = [argument.arg for argument in function.args.posonlyargs + function.args.args]
        count = len(own) - (own[:1] in (["self"], ["cls"]))
        typed = any(isinstance(d, ast.Call) and d.args for d in function.decorator_list)  # named once more
        if count > (11 if kernel else MOST_PARAMETERS) and not typed:
            yield f"{function.name} has {count} parameters"


def test_every_fact_has_a_sentence_that_says_its_values() -> None:
    said: dict[str, set[str]] = {}
    for path in MODULES:
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "fact":
                name = ast.literal_eval(node.args[0])
                starred = any(word.arg is None for word in node.keywords)
                said[name] = {word.arg for word in node.keywords if word.arg} | ({"*"} if starred else set())
    assert set(said) == set(SENTENCES)
    for name, sentence in SENTENCES.items():
        if isinstance(sentence, str) and "*" not in said[name]:
            named = {field for _, field, _, _ in Formatter().parse(sentence) if field}
            assert named == said[name], name


def test_only_the_command_line_prints() -> None:
    for path in MODULES:
        if path.parent.name != "cli":
            calls = [node for node in ast.walk(parsed(path)) if isinstance(node, ast.Call)]
            assert not any(isinstance(call.func, ast.Name) and call.func.id == "print" for call in calls), (
                path
            )


def test_seams_have_at_most_three_members() -> None:
    for seam, members in (
        (Raster, {"frame", "bands", "cells"}),
        (HasOverviews, {"coarser"}),
        (Executor, {"map"}),
        (PointSource, {"cloud", "parts", "read"}),
    ):
        assert {name for name in vars(seam) if not name.startswith("_")} == members


def test_every_error_is_of_the_one_family_with_an_exit_code_of_its_own() -> None:
    family = [c for _, c in inspect.getmembers(errors, inspect.isclass) if issubclass(c, Exception)]
    codes = {c.__name__: c.exit_code for c in family}
    kinds = [c for c in family if errors.ZembrelError in (c, *c.__bases__)]
    assert all(issubclass(c, errors.ZembrelError) for c in family)
    assert len({codes[c.__name__] for c in kinds}) == len(kinds)
    assert codes["UsageError"] == 2 and codes["InputError"] == 3 and codes["RefusedError"] == 4
    again = pickle.loads(pickle.dumps(errors.InputError("what", "why", "remedy")))
    assert (again.what, again.why, again.remedy) == ("what", "why", "remedy")


def test_near_misses_are_offered_else_what_is_known() -> None:
    assert errors.nearest_name("frist", ["first", "last"]) == "did you mean first?"
    assert errors.nearest_name("zzz", ["first", "last"]) == "known are first, last"


def test_what_only_kernels_may_call_is_called_by_no_other_code() -> None:
    """A part of kernels has no way in from Python: calling it would end the process."""
    kernels, parts, called = set(), set(), {}
    for path in MODULES:
        tree = parsed(path)
        for node in tree.body:
            decorators = (
                [ast.unparse(d) for d in node.decorator_list] if isinstance(node, ast.FunctionDef) else []
            )
            if any(word in d for d in decorators for word in KERNEL_DECORATORS):
                kernels.add((path, node.name))  # type: ignore[union-attr]
                parts |= {(path, node.name)} if "part_of_kernels" in decorators else set()  # type: ignore[union-attr]
                continue
            for inner in ast.walk(node):
                if isinstance(inner, ast.Name) and isinstance(inner.ctx, ast.Load):
                    called[path, inner.id] = inner.lineno
    assert len(kernels) > 100 and len(parts) > 40
    assert not parts & called.keys()


def test_names_are_had_once_and_say_what_a_thing_is() -> None:
    classes = [
        node.name
        for path in MODULES
        for node in parsed(path).body
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    ]
    twice = {name for name in classes if classes.count(name) > 1}
    assert not twice
    stems = [path.stem for path in MODULES]
    assert stems.count("table") <= 1 and not {"told", "shelf", "wanted", "work", "means"} & set(stems)


def test_tasks_and_views_hold_no_closures() -> None:
    """What the engine is given can be pickled: no function made inside another goes to it."""
    for path in MODULES:
        for function in functions(parsed(path)):
            inner = {node.name for node in function.body if isinstance(node, ast.FunctionDef)}
            for call in (node for node in ast.walk(function) if isinstance(node, ast.Call)):
                name = call.func.id if isinstance(call.func, ast.Name) else ""
                given = {a.id for a in call.args if isinstance(a, ast.Name)}
                lambdas = [a for a in call.args if isinstance(a, ast.Lambda)]
                assert name not in ("over_panes", "over_pieces") or not (inner & given or lambdas), path


def test_modules_import_each_other_at_the_top_alone() -> None:
    """Slow ones are loaded on demand by their package; only the command line waits for a verb to be named."""
    for path in MODULES:
        if "cli" not in path.relative_to(SOURCE).parts:
            for function in functions(parsed(path)):
                inner = [node for node in ast.walk(function) if isinstance(node, ast.ImportFrom)]
                assert not [n.module for n in inner if (n.module or "").startswith("zembrel")], path


def test_no_name_of_a_file_is_had_more_than_three_times() -> None:
    """So that a file is found by its name."""
    names = Counter(path.name for path in MODULES if path.name != "__init__.py")
    assert [name for name, count in names.items() if count > 3] == []


def test_every_file_of_data_is_installed() -> None:
    listed = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text())["tool"]["setuptools"][
        "package-data"
    ]["zembrel"]
    data = [
        path
        for path in SOURCE.rglob("*")
        if path.is_file() and path.suffix != ".py" and "__pycache__" not in path.parts
    ]
    assert data and all(any(path.match(f"zembrel/{glob}") for glob in listed) for path in data)
    assert all(list(SOURCE.glob(glob)) for glob in listed)
