"""Templates with bounded work: Jinja2's sandbox, and a budget for what it does not bound.

The sandbox keeps a template from attributes it must not reach; it does not keep it from
`{{ "x" * 10 ** 9 }}` or from loops in loops. So: no macros, imports, inheritance or calls into
other templates; filters and tests are those listed here; output and time are capped. What holds by
construction: **whatever a template makes is small when it is written out in full** (`made`: lists
and mappings, what filters and operators give), however often a part stands in it; and **every step
that takes longer the larger its values are** (comparing, hashing, filtering, testing, looping) asks
the budget first. So no step is long, and the budget ends them all.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache, wraps
from typing import Any

from jinja2 import StrictUndefined, TemplateError, TemplateSyntaxError, nodes
from jinja2.exceptions import UndefinedError
from jinja2.sandbox import ImmutableSandboxedEnvironment
from jinja2.visitor import NodeTransformer

from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.template_bounds import (
    MAX_NUMBER,
    MAX_OUTPUT,
    MAX_SECONDS,
    MAX_STEPS,
    Budget,
    asked,
    budget,
    counted,
    made,
    measured,
)
from fond_echo.core.language.template_filters import (
    FILTERS,
    GIVE_WHAT_CAME,
    Verbatim,
    in_an_address,
    join,
)

MAX_SOURCE = 50_000
MAX_CODE = 10_000
"""Characters of a template within {{ }} and {% %}: they are what takes long to compile."""


def _plain(value: Any) -> Any:
    """A value that may leave a template: data, and not what is missing or can be called."""
    if isinstance(value, StrictUndefined):
        str(value)  # raises UndefinedError, which names it
    if callable(value) or type(value).__module__.startswith("jinja2"):
        raise TemplateFailed("the template gives something to call instead of a value")
    return str(value) if isinstance(value, Verbatim) else value


def _numbers_only(name: str, left: Any, right: Any) -> None:
    if not (isinstance(left, (int, float)) and isinstance(right, (int, float))):
        raise TemplateFailed(f"{name} works on numbers only in a template")


_FORBIDDEN = (
    nodes.Macro,
    nodes.CallBlock,
    nodes.Import,
    nodes.FromImport,
    nodes.Include,
    nodes.Extends,
    nodes.Block,
    nodes.FilterBlock,
    nodes.AssignBlock,
)


TESTS = frozenset(
    "!= < <= == > >= boolean defined divisibleby eq equalto even false float ge greaterthan gt in "
    "integer iterable le lessthan lower lt mapping ne none number odd sequence string true "
    "undefined upper".split()
)
"""What may stand behind `is`."""


def _through(name: str, node: Any) -> nodes.Filter:
    return nodes.Filter(node, name, [], [], None, None, lineno=node.lineno)


class _Counting(NodeTransformer):
    """Wraps what is looped over, made, compared, hashed or cut; makes `~` a checked `+`."""

    # The names are those of jinja2's visitor.

    def visit_For(self, node: nodes.For) -> nodes.For:  # noqa: N802
        self.generic_visit(node)
        if node.recursive:
            raise TemplateSyntaxError("recursive loops are not allowed", node.lineno)
        node.iter = _through("_counted", node.iter)
        return node

    def visit_Concat(self, node: nodes.Concat) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        return _through("_concat", nodes.List(node.nodes, lineno=node.lineno))

    def visit_List(self, node: nodes.List) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        return _through("_made", node)

    def visit_Tuple(self, node: nodes.Tuple) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        return _through("_made", node) if node.ctx == "load" else node

    def visit_Dict(self, node: nodes.Dict) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        for pair in node.items:
            pair.key = _through("_asked", pair.key)
        return _through("_made", node)

    def visit_Compare(self, node: nodes.Compare) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        for each in node.ops:
            each.expr = _through("_asked", each.expr)
        return node

    def visit_Getitem(self, node: nodes.Getitem) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        if isinstance(node.arg, nodes.Slice):
            return _through("_made", node)
        if not isinstance(node.arg, nodes.Const):
            node.arg = _through("_asked", node.arg)
        return node


def _stepping(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A filter or test as one step. What it makes is small when it is written out."""
    makes = name not in GIVE_WHAT_CAME

    @wraps(function)
    def step(*given: Any, **named: Any) -> Any:
        budget.get().spend()
        found = function(*given, **named)
        return measured(found) if makes else found

    return step


class _Environment(ImmutableSandboxedEnvironment):
    intercepted_binops = frozenset(("+", "*", "**", "%"))

    def __init__(self, finalize: Callable[[Any], Any] = measured) -> None:
        # Not optimized: constants would be worked out while a template is compiled, outside of any
        # budget.
        super().__init__(
            undefined=StrictUndefined, autoescape=False, keep_trailing_newline=True,
            optimized=False, finalize=finalize,
        )  # fmt: skip
        self.globals = {"range": _numbers}
        own = {"_counted": counted, "_concat": join, "_made": made, "_asked": asked}
        self.filters = {**{name: _stepping(name, each) for name, each in FILTERS.items()}, **own}
        tests: dict[str, Any] = dict(self.tests)
        self.tests = {name: _stepping(name, tests[name]) for name in TESTS}

    def preprocess(self, source: str, name: str | None = None, filename: str | None = None) -> str:
        source = super().preprocess(source, name, filename)
        for code in _CODE.finditer(source):
            if _OTHER_SECRET.search(code[0]):
                line = source.count("\n", 0, code.start()) + 1
                raise TemplateSyntaxError("a secret is written secrets.NAME", line)
        return _CODE.sub(lambda code: _SECRET.sub(r"secrets['\1']", code[0]), source)

    def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
        tree = super()._parse(source, name, filename)
        for kind in _FORBIDDEN:
            found = next(tree.find_all(kind), None)
            if found is not None:
                word = re.sub(r"(?<!^)(?=[A-Z])", " ", kind.__name__).lower()
                raise TemplateSyntaxError(f"a template has no {word}", found.lineno)
        return _Counting().visit(tree)  # type: ignore[no-any-return]

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        budget.get().spend()
        if operator in ("*", "**", "%"):
            _numbers_only(operator, left, right)
        if operator == "**" and (abs(left) > 10_000 or abs(right) > 16):
            raise TemplateFailed("a number grows over 10^15")
        found = super().call_binop(context, operator, left, right)
        if isinstance(found, (int, float)) and abs(found) > MAX_NUMBER:
            raise TemplateFailed("a number grows over 10^15")
        return measured(found)

    def is_safe_callable(self, obj: Any) -> bool:
        return obj is _numbers


def _numbers(*bounds: int) -> list[int]:
    budget.get().spend()
    wanted = range(*bounds)
    if len(wanted) > MAX_STEPS:
        raise TemplateFailed(f"a range holds at most {MAX_STEPS:,} numbers")
    return list(wanted)


_environment = _Environment()
_addresses = _Environment(in_an_address)
_CODE = re.compile(r"\{([{%]).*?(?:[%}]\}|$)", re.DOTALL)
_SECRET = re.compile(r"\bsecrets\.([a-z][a-z0-9]*(?:-[a-z0-9]+)*)")
"""`secrets.skerry-token`: names have dashes, which are no minus there."""

_OTHER_SECRET = re.compile(r"""\bsecrets\s*(?:\[|\||\.\s|\.(?![a-z]))""")

_LONE = re.compile(r"\s*\{\{-?((?:(?!\}\}|\{\{).)*?)-?\}\}\s*", re.DOTALL)


@dataclass(frozen=True)
class Template:
    """A compiled template.

    Attributes:
        source: its text.
        names: the values it asks for, at the top level.
        parts: what it asks for in them, as (name, part): ("turn", "text").
    """

    source: str
    names: frozenset[str] = field(default=frozenset())
    parts: frozenset[tuple[str, str]] = field(default=frozenset())

    def render(self, values: Mapping[str, Any]) -> Any:
        """The template over values: a string, or, for a lone `{{ x }}`, x with its own type.

        Raises:
            TemplateFailed: a name without a value, or work over the budget.
        """
        return self._within_budget(lambda: self._evaluate(values))

    def _within_budget(self, work: Callable[[], Any]) -> Any:
        token = budget.set(Budget(time.thread_time() + MAX_SECONDS))
        try:
            return work()
        except TemplateFailed:
            raise
        except UndefinedError as error:
            raise TemplateFailed(
                f"the template asks for a value that does not exist: {error}"
            ) from error
        except (TemplateError, TypeError, ValueError, ArithmeticError, LookupError) as error:
            raise TemplateFailed(f"the template fails: {error}") from error
        except RecursionError as error:
            raise TemplateFailed("the template is nested too deeply") from error
        finally:
            budget.reset(token)

    def address(self, values: Mapping[str, Any], own: frozenset[str]) -> str:
        """The template as an address: every value percent-encoded, but those of our own.

        Args:
            own: names of values that go in as they are, such as the base of all addresses.

        Raises:
            TemplateFailed: as `render`.
        """
        known = {
            name: Verbatim(value) if name in own and isinstance(value, str) else value
            for name, value in values.items()
        }
        return str(self._within_budget(lambda: self._written(_address_of(self.source), known)))

    def _evaluate(self, values: Mapping[str, Any]) -> Any:
        expression, template = _compiled(self.source)
        if expression is not None:
            return _plain(expression.make_module(dict(values)).lone)
        return self._written(template, values)

    def _written(self, template: Any, values: Mapping[str, Any]) -> str:
        parts: list[str] = []
        size = 0
        for part in template.generate(**values):
            size += len(part)
            if size > MAX_OUTPUT:
                raise TemplateFailed(f"the template writes more than {MAX_OUTPUT:,} characters")
            parts.append(part)
        return "".join(parts)


@lru_cache(maxsize=4_096)
def _compiled(source: str) -> tuple[Any, Any]:
    lone = _LONE.fullmatch(source)
    if lone and "%}" not in lone[1] and "{%" not in lone[1]:
        # A lone expression keeps its type; it is compiled as part of a template, so that all that
        # holds for templates holds for it.
        return _environment.from_string("{% set lone = (" + lone[1] + ") %}"), None
    return None, _environment.from_string(source)


@lru_cache(maxsize=4_096)
def _address_of(source: str) -> Any:
    return _addresses.from_string(source)


@lru_cache(maxsize=4_096)
def compile_template(source: str) -> Template:
    """Compile a template.

    Raises:
        TemplateFailed: with the line of what is wrong in it.
    """
    if len(source) > MAX_SOURCE:
        raise TemplateFailed(f"a template has at most {MAX_SOURCE:,} characters")
    if sum(len(each[0]) for each in _CODE.finditer(source)) > MAX_CODE:
        raise TemplateFailed(
            f"a template has at most {MAX_CODE:,} characters within {{{{ }}}} and {{% %}}"
        )
    if "{" not in source:
        return Template(source, frozenset())
    try:
        _compiled(source)
        tree = _environment.parse(source)
    except TemplateSyntaxError as error:
        raise TemplateFailed(error.message or "not a template", line=error.lineno) from error
    except (TemplateError, RecursionError) as error:
        raise TemplateFailed(str(error) or "nested too deeply") from error
    from jinja2.meta import find_undeclared_variables

    names = frozenset(find_undeclared_variables(tree)) - {"range"}
    return Template(source, names, frozenset(_parts_in(tree, names)))


def _parts_in(tree: nodes.Template, names: frozenset[str]) -> Iterator[tuple[str, str]]:
    """The parts of values that a template names."""
    for node in tree.find_all((nodes.Getattr, nodes.Getitem)):
        assert isinstance(node, (nodes.Getattr, nodes.Getitem))
        if not isinstance(node.node, nodes.Name) or node.node.name not in names:
            continue
        if isinstance(node, nodes.Getattr):
            yield node.node.name, node.attr
        elif isinstance(node.arg, nodes.Const) and isinstance(node.arg.value, str):
            yield node.node.name, node.arg.value


def names_in_tree(tree: Any) -> frozenset[str]:
    """The values that the templates in a tree of dicts and lists name.

    Raises:
        TemplateFailed: one of them is not a valid template.
    """
    if isinstance(tree, str):
        return compile_template(tree).names
    if isinstance(tree, Mapping):
        tree = list(tree.values())
    return frozenset[str]().union(*map(names_in_tree, tree)) if isinstance(tree, list) else _NONE


_NONE = frozenset[str]()


def render_tree(tree: Any, values: Mapping[str, Any]) -> Any:
    """Every string in a tree of dicts and lists, rendered."""
    if isinstance(tree, str):
        return compile_template(tree).render(values)
    if isinstance(tree, Mapping):
        return {key: render_tree(value, values) for key, value in tree.items()}
    if isinstance(tree, list):
        return [render_tree(value, values) for value in tree]
    return tree
