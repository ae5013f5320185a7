"""JSONPath (RFC 9535) and patterns (I-Regexp, RFC 9485) of authors, with work that is bounded.

Whatever a document holds, a path is followed in time that grows as the document does: it descends
to any depth (`..`) at most once, and not within a filter; a filter looks at the root only along one
way; brackets choose few things each; patterns are matched by RE2, in linear time.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

import re2
from iregexp_check import check
from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathError, JSONPathQuery
from jsonpath_rfc9535.filter_expressions import (
    ComparisonExpression,
    Expression,
    FilterExpression,
    FilterQuery,
    FunctionExtension,
    LogicalExpression,
    PrefixExpression,
    RootFilterQuery,
    StringLiteral,
)
from jsonpath_rfc9535.function_extensions import ExpressionType, FilterFunction
from jsonpath_rfc9535.segments import JSONPathRecursiveDescentSegment
from jsonpath_rfc9535.selectors import FilterSelector, IndexSelector, NameSelector

from fond_echo.documents.errors import NoPattern

MAX_PATH = 500
MAX_WAYS = 16
"""The numbers of things in brackets, multiplied: $["a","b"][1,2] goes 4 ways."""

MAX_PATTERN_BYTES = 2**20


_TIMES = re.compile(r"\{[0-9]+(?:,[0-9]*)?\}")


@lru_cache(maxsize=1_000)
def pattern(text: str) -> Any:
    """An I-Regexp, made to be matched in linear time. Raises NoPattern."""
    # The library knows only times of one digit.
    if not check(_TIMES.sub(lambda times: re.sub("[0-9]+", "1", times[0]), text)):
        raise NoPattern(
            f"{text!r} is not a pattern of RFC 9485 (I-Regexp): there a digit is [0-9], and nothing"
            " looks ahead or back"
        )
    options = re2.Options()
    options.log_errors, options.max_mem = False, MAX_PATTERN_BYTES
    try:
        return re2.compile("".join(_as_re2(text)), options)
    except re2.error as error:
        reason = error.args[0] if error.args else ""
        reason = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
        raise NoPattern(f"the pattern {text!r} is too large: {reason}") from error


def _as_re2(text: str) -> Iterator[str]:
    """What RE2 takes for an I-Regexp: there ^ and $ are signs like others, and a dot is no end of a
    line."""
    escaped = within = False
    for sign in text:
        if escaped or within:
            yield sign
            within = within and (escaped or sign != "]")
            escaped = not escaped and sign == "\\"
            continue
        escaped, within = sign == "\\", sign == "["
        yield {".": r"[^\n\r]", "^": r"\^", "$": r"\$"}.get(sign, sign)


class _Search(FilterFunction):
    """Whether a pattern is found somewhere in a text."""

    arg_types = [ExpressionType.VALUE, ExpressionType.VALUE]  # noqa: RUF012  # the library's own
    return_type = ExpressionType.LOGICAL

    def __call__(self, text: object, wanted: object) -> bool:
        """As RFC 9535 §2.4.7 says: what is no text, or no pattern, matches nothing."""
        if not isinstance(text, str) or not isinstance(wanted, str):
            return False
        try:
            return self._found(pattern(wanted), text)
        except NoPattern:
            return False

    def _found(self, found: Any, text: str) -> bool:
        return found.search(text) is not None


class _Match(_Search):
    """Whether a pattern fits the whole of a text (RFC 9535 §2.4.6)."""

    def _found(self, found: Any, text: str) -> bool:
        return found.fullmatch(text) is not None


class _Environment(JSONPathEnvironment):
    def setup_function_extensions(self) -> None:
        super().setup_function_extensions()
        self.function_extensions |= {"search": _Search(), "match": _Match()}


_ENVIRONMENT = _Environment()


@lru_cache(maxsize=5_000)
def json_path(text: str) -> JSONPathQuery:
    """A path, read once. Raises ValueError, which says what is wrong with it."""
    if len(text) > MAX_PATH:
        raise ValueError(f"a JSONPath has at most {MAX_PATH} characters")
    try:
        query = _ENVIRONMENT.compile(text)
    except (JSONPathError, RecursionError) as error:
        reason = str(error).splitlines()[0]
        raise ValueError(f"{text!r} is not a JSONPath (RFC 9535): {reason}") from error
    if what := next(_excesses(query, within=False), ""):
        raise ValueError(f"{text!r} {what}")
    return query


def _excesses(query: JSONPathQuery, *, within: bool) -> Iterator[str]:
    """What would take longer than a document is long.

    Args:
        within: it stands in a filter.
    """
    ways = descents = 1
    for segment in query.segments:
        ways *= len(segment.selectors)
        descents += isinstance(segment, JSONPathRecursiveDescentSegment)
        for selector in segment.selectors:
            if isinstance(selector, FilterSelector):
                yield from _in_expression(selector.expression)
    if ways > MAX_WAYS:
        yield f"goes {ways} ways: there may be {MAX_WAYS}"
    if descents > (1 if within else 2):
        yield "goes down with .. twice, or within a filter: write the names in between"


def _in_expression(expression: Expression) -> Iterator[str]:
    if isinstance(expression, RootFilterQuery) and not _is_one_way(expression.query):
        yield "looks for many things at the root for each one that it filters: name the one"
    if isinstance(expression, FilterQuery):
        yield from _excesses(expression.query, within=True)
    elif isinstance(expression, FunctionExtension):
        if expression.name in ("match", "search"):
            for each in expression.args[1:]:
                if isinstance(each, StringLiteral):
                    yield from _wrong(each.value)
        for each in expression.args:
            yield from _in_expression(each)
    elif isinstance(expression, (LogicalExpression, ComparisonExpression)):
        yield from _in_expression(expression.left)
        yield from _in_expression(expression.right)
    elif isinstance(expression, PrefixExpression):
        yield from _in_expression(expression.right)
    elif isinstance(expression, FilterExpression):
        yield from _in_expression(expression.expression)


def _wrong(text: str) -> Iterator[str]:
    try:
        pattern(text)
    except NoPattern as error:
        yield f"holds what is no pattern: {error}"


def _is_one_way(query: JSONPathQuery) -> bool:
    return all(
        not isinstance(each, JSONPathRecursiveDescentSegment)
        and len(each.selectors) == 1
        and isinstance(each.selectors[0], (NameSelector, IndexSelector))
        for each in query.segments
    )
