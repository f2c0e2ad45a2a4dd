"""Which changes to the rules of verdicts, findings, limits and wording does no test notice?

    python -m benchmarks.mutants [MODULE ...]

One change at a time: a comparison turned, a sign, a constant, a condition negated, a statement left out. The tests of
these rooms run on each in a process of its own, two at a time; what survives is printed with its line. Between
processes only the source of one module differs, so that libraries are imported once.
"""

import ast
import copy
import importlib
import importlib.abc
import importlib.machinery
import multiprocessing
import os
import sys
from collections.abc import Iterator
from pathlib import Path

import click

ROOT = Path(__file__).parents[1]
MODULES = (
    "core.verdicts.rules", "core.verdicts.symptoms", "core.verdicts.verdict", "core.registry.limits",
    "bench.sheets.findings", "wording.figures", "wording.causes", "wording.conditions", "wording.verdicts",
    "wording.tables",
)  # fmt: skip
TESTS = (
    "tests/core/test_symptoms.py", "tests/wording", "tests/bench/test_rules.py", "tests/bench/test_findings.py",
    "tests/core/test_registry.py",
)  # fmt: skip
_SECONDS = 30
_TURNED: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.Add: ast.Sub, ast.Sub: ast.Add,
    ast.Mult: ast.Div, ast.Div: ast.Mult, ast.And: ast.Or, ast.Or: ast.And,
}  # fmt: skip


def mutants(tree: ast.Module) -> Iterator[tuple[int, str, ast.Module]]:
    """Each change of one place: its line, what it is, and the whole module with it."""
    decorating = {
        id(part) for node in ast.walk(tree) for one in getattr(node, "decorator_list", ()) for part in ast.walk(one)
    }
    for place, node in enumerate(ast.walk(tree)):
        if id(node) in decorating:  # a class that is not frozen breaks no rule
            continue
        for number, (what, change) in enumerate(_changes(node)):
            changed = copy.deepcopy(tree)
            target = next(one for i, one in enumerate(ast.walk(changed)) if i == place)
            again = list(_changes(target))[number][1]
            again()
            yield getattr(node, "lineno", 0), what, ast.fix_missing_locations(changed)
            del change


def _changes(node: ast.AST) -> Iterator[tuple[str, "_Change"]]:
    if isinstance(node, ast.Compare):
        for i, operator in enumerate(node.ops):
            turned = _TURNED.get(type(operator))
            if turned is not None:
                what = f"{type(operator).__name__} → {turned.__name__}"
                yield what, _Change(node.ops, i, turned())
    elif isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in _TURNED:
        turned = _TURNED[type(node.op)]
        yield f"{type(node.op).__name__} → {turned.__name__}", _Change(node, "op", turned())
    elif isinstance(node, ast.If | ast.IfExp):
        yield "condition negated", _Change(node, "test", ast.UnaryOp(ast.Not(), node.test))
    elif isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield f"{node.value} → {not node.value}", _Change(node, "value", not node.value)
    elif isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        yield f"{node.value} → {node.value * 2 + 1}", _Change(node, "value", node.value * 2 + 1)
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.Not):
        yield "sign or not left out", _Change(node, "op", ast.UAdd() if isinstance(node.op, ast.USub) else None)
    elif isinstance(node, ast.Return) and node.value is not None:
        yield "returns None", _Change(node, "value", ast.Constant(None))


class _Change:
    """A value to be put into a list or an attribute."""

    def __init__(self, holder: object, key: object, value: object) -> None:
        self._holder, self._key, self._value = holder, key, value

    def __call__(self) -> None:
        if isinstance(self._holder, list):
            self._holder[self._key] = self._value  # type: ignore[call-overload]
        elif self._value is None and isinstance(self._holder, ast.UnaryOp):
            # "not x" becomes "not not x", which is x as a condition.
            self._holder.operand = ast.UnaryOp(ast.Not(), self._holder.operand)
        else:
            setattr(self._holder, str(self._key), self._value)


class _Instead(importlib.abc.SourceLoader):
    """Loads a module from a tree instead of its file."""

    def __init__(self, path: Path, tree: ast.Module) -> None:
        self._path, self._tree = path, tree

    def get_filename(self, fullname: str) -> str:
        return str(self._path)

    def get_data(self, path: str | bytes) -> bytes:
        return self._path.read_bytes()

    def get_code(self, fullname: str) -> object:  # type: ignore[override]
        return compile(self._tree, str(self._path), "exec")


class _Finder(importlib.abc.MetaPathFinder):
    def __init__(self, name: str, loader: _Instead) -> None:
        self._name, self._loader = name, loader

    def find_spec(self, fullname: str, path: object, target: object = None) -> importlib.machinery.ModuleSpec | None:
        return importlib.machinery.ModuleSpec(fullname, self._loader) if fullname == self._name else None


def _survives(task: tuple[str, int]) -> tuple[str, int, str] | None:
    """Run the tests on a mutant, in a child; its module, line and kind where none of them fails."""
    name, number = task
    path = ROOT / "src/kind_echo" / f"{name.replace('.', '/')}.py"
    line, what, tree = list(mutants(ast.parse(path.read_text())))[number]
    child = os.fork()
    if child == 0:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        os.dup2(1, 2)
        import signal

        import pytest

        signal.alarm(_SECONDS)  # what never ends is noticed as well
        sys.meta_path.insert(0, _Finder(f"kind_echo.{name}", _Instead(path, tree)))
        try:
            # Before pytest, which loads the modules of a plug-in for itself.
            importlib.import_module(f"kind_echo.{name}")
        except Exception:
            os._exit(1)
        os._exit(pytest.main(["-x", "-q", "-n", "0", "-p", "no:cacheprovider", "-k", "not every_signal", *TESTS]))
    return (name, line, what) if os.waitpid(child, 0)[1] == 0 else None


@click.command()
@click.argument("names", nargs=-1)
def main(names: tuple[str, ...]) -> None:
    """Print what survives, and its share."""
    os.chdir(ROOT)
    import hypothesis
    import numpy  # noqa: F401 - imported once, for all children
    import pytest  # noqa: F401
    import scipy.signal  # noqa: F401
    import sqlalchemy  # noqa: F401

    hypothesis.settings.register_profile("few", max_examples=20, deadline=None, database=None)
    hypothesis.settings.load_profile("few")
    tasks = []
    for name in names or MODULES:
        tree = ast.parse((ROOT / "src/kind_echo" / f"{name.replace('.', '/')}.py").read_text())
        tasks += [(name, number) for number, _ in enumerate(mutants(tree))]
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        alive = 0
        for found in pool.imap_unordered(_survives, tasks):
            if found is not None:
                alive += 1
                print("{}:{}  {}".format(*found), flush=True)
    print(f"{alive} of {len(tasks)} survive: {100 * alive / len(tasks):.1f} %")


if __name__ == "__main__":
    main()
