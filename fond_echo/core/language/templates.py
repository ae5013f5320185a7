"""Templates with bounded work: Jinja2's sandbox, and a budget for what it does not bound.

The sandbox keeps a template from attributes it must not reach; it does not keep it from
`{{ "x" * 10 ** 9 }}` or from loops in loops. So: no macros, imports, inheritance or calls into
other templates; loops count against a budget; `*`, `**`, `%`, `+` and `~` check what they make;
filters are those listed here; output and time are capped.
"""

from __future__ import annotations

import base64
import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from typing import Any
from urllib.parse import quote

from jinja2 import StrictUndefined, TemplateError, TemplateSyntaxError, nodes
from jinja2.exceptions import UndefinedError
from jinja2.sandbox import ImmutableSandboxedEnvironment
from jinja2.visitor import NodeTransformer

from fond_echo.core.audio.columns import resized, scaled
from fond_echo.core.errors import FondEchoError

MAX_OUTPUT = 100_000
MAX_STEPS = 20_000
MAX_SECONDS = 0.5
MAX_SOURCE = 50_000
MAX_NUMBER = 10**15
MAX_DIGITS = 15


class TemplateFailed(FondEchoError):
    """A template that cannot be used, or that failed on the values it was given."""

    code = "template"

    def __init__(self, what: str, *, where: str = "", remedy: str = "", line: int = 1) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.line = line


@dataclass
class _Budget:
    deadline: float
    steps: int = 0

    def spend(self, steps: int = 1) -> None:
        self.steps += steps
        if self.steps > MAX_STEPS:
            raise TemplateFailed(f"the template loops more than {MAX_STEPS:,} times")
        if time.monotonic() > self.deadline:
            raise TemplateFailed(f"the template takes longer than {MAX_SECONDS} s")


_budget: ContextVar[_Budget] = ContextVar("template_budget")


def _counted(values: Iterable[Any]) -> Iterator[Any]:
    budget = _budget.get()
    for value in values:
        budget.spend()
        yield value


TOO_LARGE = f"a value grows over {MAX_OUTPUT:,} characters or items"


def _sized(value: Any) -> Any:
    if isinstance(value, (str, bytes, list, tuple, dict)) and len(value) > MAX_OUTPUT:
        raise TemplateFailed(TOO_LARGE)
    if isinstance(value, (int, float)) and abs(value) > MAX_NUMBER:
        raise TemplateFailed("a number grows over 10^15")
    return value


def _written_size(value: Any, left: int = MAX_OUTPUT) -> int:
    """About how many characters a value takes when it is written, with all that is in it: known
    before it is written. Raises TemplateFailed where it is too many."""
    size = 2
    if isinstance(value, str):
        size += len(value)
    elif isinstance(value, Mapping):
        for key, each in value.items():
            size += _written_size(key, left - size) + _written_size(each, left - size)
    elif isinstance(value, (list, tuple, set, frozenset)):
        for each in value:
            size += _written_size(each, left - size)
    if size > left:
        raise TemplateFailed(TOO_LARGE)
    return size


def _measured(value: Any) -> Any:
    """A value that is about to be written."""
    if isinstance(value, (Mapping, list, tuple, set, frozenset)):
        _written_size(value)
    return _sized(value)


def _string(value: Any) -> str:
    return str(_measured(value))


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


def _join(values: Iterable[Any], between: str = "") -> str:
    parts: list[str] = []
    size = 0
    for value in _counted(values):
        parts.append(_string(value))
        size += len(parts[-1]) + len(between)
        if size > MAX_OUTPUT + len(between):
            raise TemplateFailed(TOO_LARGE)
    return str(between).join(parts)


def _replace(value: Any, old: str, new: str) -> str:
    text = _string(value)
    grown = len(text) + text.count(old) * (len(new) - len(old)) if old else len(text) * len(new)
    if grown > MAX_OUTPUT:
        raise TemplateFailed(TOO_LARGE)
    return str(text.replace(old, new))


def _ordered(values: Iterable[Any]) -> list[Any]:
    return sorted(_counted(values))


def _points(waveform: list[float], count: int) -> list[float]:
    if not 1 <= count <= 1_000:
        raise TemplateFailed("a waveform has 1 to 1,000 points")
    return resized(waveform, count)


def _default(value: Any, fallback: Any = "") -> Any:
    return fallback if value is None or isinstance(value, StrictUndefined) else value


def _base64(value: Any) -> str:
    """Base64 of text, or of a fact that holds bytes (sound, a file)."""
    data = getattr(value, "data", value)
    return base64.b64encode(data if isinstance(data, bytes) else str(data).encode()).decode()


def _round(number: Any, digits: int = 0) -> Any:
    if abs(digits) > MAX_DIGITS:
        raise TemplateFailed(f"a number is rounded to at most {MAX_DIGITS} digits")
    return round(number, digits) if digits else round(number)


def _day(value: Any) -> str:
    """A date as it is said: Friday, 27 November."""
    at = value if hasattr(value, "strftime") else datetime.fromisoformat(str(value))
    return f"{at:%A}, {at.day} {at:%B}"


class Verbatim(str):
    """A text that goes into an address as it is."""

    __slots__ = ()


def _path(value: Any) -> Verbatim:
    """A path, each of its segments percent-encoded and the slashes between them kept."""
    return Verbatim(quote(_string(value), safe="/"))


def _in_an_address(value: Any) -> str:
    """What stands for a value in an address: percent-encoded, whatever it is made of."""
    return value if isinstance(value, Verbatim) else quote(_string(value), safe="")


FILTERS: dict[str, Callable[..., Any]] = {
    "base64": _base64,
    "capitalize": lambda text: _string(text)[:1].upper() + _string(text)[1:],
    "date": lambda at: f"{at:%Y-%m-%d}",
    "day": _day,
    "default": _default,
    "first": lambda values: next(iter(values), None),
    "float": float,
    "int": int,
    "join": _join,
    "last": lambda values: list(_counted(values))[-1] if values else None,
    "length": len,
    "list": lambda values: list(_counted(values)),
    "lower": lambda text: _string(text).lower(),
    "max": lambda values: max(_counted(values)),
    "min": lambda values: min(_counted(values)),
    "path": _path,
    "points": _points,
    "scale": scaled,
    "replace": _replace,
    "round": _round,
    "sort": _ordered,
    "string": _string,
    "sum": lambda values: sum(_counted(values)),
    "time": lambda at: f"{at:%H:%M}",
    "title": lambda text: _string(text).title(),
    "trim": lambda text: _string(text).strip(),
    "upper": lambda text: _string(text).upper(),
}
"""What may stand behind a bar. `date`, `time` and `day` write an instant down; `points` and `scale`
shape a waveform for a network's field."""

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


class _Counting(NodeTransformer):
    """Wraps what is looped over, and turns `~` into a checked `+`."""

    def visit_For(self, node: nodes.For) -> nodes.For:  # noqa: N802  # jinja2's visitor
        self.generic_visit(node)
        if node.recursive:
            raise TemplateSyntaxError("recursive loops are not allowed", node.lineno)
        node.iter = nodes.Filter(node.iter, "_counted", [], [], None, None, lineno=node.lineno)
        return node

    def visit_Concat(self, node: nodes.Concat) -> nodes.Expr:  # noqa: N802
        self.generic_visit(node)
        return nodes.Filter(
            nodes.List(node.nodes, lineno=node.lineno), "_concat", [], [], None, None,
            lineno=node.lineno,
        )  # fmt: skip


class _Environment(ImmutableSandboxedEnvironment):
    intercepted_binops = frozenset(("+", "*", "**", "%"))

    def __init__(self, finalize: Callable[[Any], Any] = _measured) -> None:
        # Not optimized: constants would be worked out while a template is compiled, outside of any
        # budget.
        super().__init__(
            undefined=StrictUndefined, autoescape=False, keep_trailing_newline=True,
            optimized=False, finalize=finalize,
        )  # fmt: skip
        self.globals = {"range": _numbers}
        self.filters = {**FILTERS, "_counted": _counted, "_concat": _join}

    def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
        tree = super()._parse(source, name, filename)
        for kind in _FORBIDDEN:
            found = next(tree.find_all(kind), None)
            if found is not None:
                word = re.sub(r"(?<!^)(?=[A-Z])", " ", kind.__name__).lower()
                raise TemplateSyntaxError(f"a template has no {word}", found.lineno)
        return _Counting().visit(tree)  # type: ignore[no-any-return]

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        _budget.get().spend()
        if operator in ("*", "**", "%"):
            _numbers_only(operator, left, right)
        if operator == "**" and (abs(left) > 10_000 or abs(right) > 16):
            raise TemplateFailed("a number grows over 10^15")
        return _sized(super().call_binop(context, operator, left, right))

    def is_safe_callable(self, obj: Any) -> bool:
        return obj is _numbers


def _numbers(*bounds: int) -> list[int]:
    wanted = range(*bounds)
    if len(wanted) > MAX_STEPS:
        raise TemplateFailed(f"a range holds at most {MAX_STEPS:,} numbers")
    return list(wanted)


_environment = _Environment()
_addresses = _Environment(_in_an_address)
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
        token = _budget.set(_Budget(time.monotonic() + MAX_SECONDS))
        try:
            return work()
        except TemplateFailed:
            raise
        except UndefinedError as error:
            raise TemplateFailed(f"the template asks for what is not there: {error}") from error
        except (TemplateError, TypeError, ValueError, ArithmeticError, LookupError) as error:
            raise TemplateFailed(f"the template fails: {error}") from error
        except RecursionError as error:
            raise TemplateFailed("the template is nested too deeply") from error
        finally:
            _budget.reset(token)

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


def render_tree(tree: Any, values: Mapping[str, Any]) -> Any:
    """Every string in a tree of dicts and lists, rendered."""
    if isinstance(tree, str):
        return compile_template(tree).render(values)
    if isinstance(tree, Mapping):
        return {key: render_tree(value, values) for key, value in tree.items()}
    if isinstance(tree, list):
        return [render_tree(value, values) for value in tree]
    return tree
