"""Formulas over channels, such as `green / (red + green + blue)`, parsed and worked out safely.

    comparison   a < b, ≤ (<=), > , ≥ (>=), = (==), ≠ (!=): 1 where true, 0 where not
    sums         a + b, a − b        products  a × b (*), a ÷ b (/)      powers  a ^ b (**)
    functions    min(a, b, …) max(a, b, …) log(a) log10(a) exp(a) sqrt(a) abs(a)
                 mean(a) median(a): one number for the whole plane
    names        of channels; in quotes when they hold more than letters, digits and _;
                 `this` is the channel that is corrected

Powers bind to the right and before a sign: −2 ^ 2 is −4. What has no value is undefined (NaN).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Value = NDArray[Any] | float

LONGEST = 2000
_DEEPEST = 60
THIS = "this"


class FormulaError(ValueError):
    """A formula cannot be read; `position` counts characters from 0."""

    def __init__(self, text: str, position: int, reason: str) -> None:
        self.position = position
        self.reason = reason
        start = max(0, position - 12)
        before, after = text[start:position], text[position : position + 12]
        shown = f"{'…' if start else ''}{before}▸{after}{'…' if len(text) > position + 12 else ''}"
        super().__init__(f"at character {position + 1} ({shown}): {reason}")


_TOKEN = re.compile(
    r"\s*(?:(?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)"
    r"|(?P<name>[^\W\d]\w*)"
    r'|"(?P<quoted>[^"]*)"'
    r"|(?P<sign>\*\*|<=|>=|==|!=|[-+−×÷*/^<>≤≥=≠(),]))"
)
_PLAIN = {"−": "-", "×": "*", "÷": "/", "**": "^", "≤": "<=", "≥": ">=", "=": "==", "≠": "!="}
_COMPARISONS: dict[str, Callable[[Any, Any], Any]] = {
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
    "==": np.equal,
    "!=": np.not_equal,
}


def _whole(reduce: Callable[[NDArray[Any]], Any]) -> Callable[[Value], float]:
    def work(value: Value) -> float:
        values = np.asarray(value, np.float64)
        finite = values[np.isfinite(values)]
        return float(reduce(finite)) if finite.size else float("nan")

    return work


_FUNCTIONS: dict[str, Callable[[Any], Any]] = {
    "log": np.log,
    "log10": np.log10,
    "exp": np.exp,
    "sqrt": np.sqrt,
    "abs": np.abs,
    "mean": _whole(np.mean),
    "median": _whole(np.median),
}
_OF_SEVERAL: dict[str, Callable[[Any, Any], Any]] = {"min": np.minimum, "max": np.maximum}
FUNCTIONS = (*_OF_SEVERAL, *_FUNCTIONS)


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    position: int


Work = Callable[[Mapping[str, Value]], Value]


@dataclass(frozen=True)
class Formula:
    """A formula that was read. names : the channels it needs, in order of appearance."""

    text: str
    names: tuple[str, ...]
    work: Work

    def value(self, channels: Mapping[str, Value]) -> Value:
        """Work it out; `channels` has a plane or number for each of `names`."""
        with np.errstate(all="ignore"):
            return self.work(channels)


def parsed(text: str) -> Formula:
    """Read a formula. Raises FormulaError with the position and the reason."""
    return _Parser(text).formula()


def _tokens(text: str) -> list[_Token]:
    if len(text) > LONGEST:
        raise FormulaError(text, LONGEST, f"is longer than {LONGEST} characters")
    tokens, position = [], 0
    end = len(text.rstrip())
    while position < end:
        match = _TOKEN.match(text, position)
        if match is None:
            position += len(text[position:]) - len(text[position:].lstrip())
            if text[position] == '"':
                raise FormulaError(text, position, "the quote is not closed")
            raise FormulaError(text, position, f"“{text[position]}” is not known here")
        kind = str(match.lastgroup)
        word = match.group(kind)
        start = match.start(kind) - (kind == "quoted")
        tokens.append(_Token(kind, _PLAIN.get(word, word) if kind == "sign" else word, start))
        position = match.end()
    return tokens


class _Parser:
    """Recursive descent, one method a level of binding."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens = _tokens(text)
        self.next = 0
        self.depth = 0
        self.names: dict[str, None] = {}

    def formula(self) -> Formula:
        if not self.tokens:
            raise FormulaError(self.text, 0, "the formula is empty")
        work = self._comparison()
        if self.next < len(self.tokens):
            token = self.tokens[self.next]
            raise self._error(f"“{token.text}” does not follow here; is an operator missing?")
        return Formula(self.text, tuple(self.names), work)

    # -- tokens

    @property
    def _here(self) -> _Token:
        if self.next < len(self.tokens):
            return self.tokens[self.next]
        return _Token("end", "", len(self.text.rstrip()))

    def _error(self, reason: str) -> FormulaError:
        return FormulaError(self.text, self._here.position, reason)

    def _takes(self, *signs: str) -> str | None:
        token = self._here
        if token.kind == "sign" and token.text in signs:
            self.next += 1
            return token.text
        return None

    # -- levels of binding

    def _comparison(self) -> Work:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise self._error(f"is nested more than {_DEEPEST} deep")
        left = self._sum()
        sign = self._takes(*_COMPARISONS)
        if sign is not None:
            left = _compared(_COMPARISONS[sign], left, self._sum())
        self.depth -= 1
        return left

    def _sum(self) -> Work:
        left = self._product()
        while sign := self._takes("+", "-"):
            left = _of_two(np.add if sign == "+" else np.subtract, left, self._product())
        return left

    def _product(self) -> Work:
        left = self._signed()
        while sign := self._takes("*", "/"):
            left = _of_two(np.multiply if sign == "*" else np.true_divide, left, self._signed())
        return left

    def _signed(self) -> Work:
        negative = False
        while sign := self._takes("-", "+"):
            negative ^= sign == "-"
        work = self._power()
        return _of_one(np.negative, work) if negative else work

    def _power(self) -> Work:
        base = self._atom()
        if not self._takes("^"):
            return base
        self.depth += 1
        if self.depth > _DEEPEST:
            raise self._error(f"is nested more than {_DEEPEST} deep")
        exponent = self._signed()
        self.depth -= 1
        return _of_two(_power, base, exponent)

    def _atom(self) -> Work:
        token = self._here
        if token.kind == "number":
            self.next += 1
            number = float(token.text)
            return lambda _: number
        if self._takes("("):
            work = self._comparison()
            if not self._takes(")"):
                raise self._error("a closing bracket is missing")
            return work
        if token.kind == "name" and self._is_call():
            return self._call(token)
        if token.kind in ("name", "quoted"):
            self.next += 1
            name = token.text
            self.names.setdefault(name)
            return lambda channels: channels[name]
        what = "the formula ends" if token.kind == "end" else f"“{token.text}” stands"
        raise self._error(f"{what} where a number, a channel or a bracket is expected")

    def _is_call(self) -> bool:
        after = self.tokens[self.next + 1 : self.next + 2]
        return bool(after) and (after[0].kind, after[0].text) == ("sign", "(")

    def _call(self, token: _Token) -> Work:
        name = token.text.lower()
        if name not in FUNCTIONS:
            raise self._error(f"“{token.text}” is no function; there are {', '.join(FUNCTIONS)}")
        self.next += 2
        arguments = [self._comparison()]
        while self._takes(","):
            arguments.append(self._comparison())
        if not self._takes(")"):
            raise self._error("a closing bracket is missing")
        if name in _OF_SEVERAL:
            work = arguments[0]
            for argument in arguments[1:]:
                work = _of_two(_OF_SEVERAL[name], work, argument)
            return work
        if len(arguments) > 1:
            raise FormulaError(self.text, token.position, f"“{name}” takes one value")
        return _of_one(_FUNCTIONS[name], arguments[0])


def _of_one(function: Callable[[Any], Any], work: Work) -> Work:
    return lambda channels: function(work(channels))


def _of_two(function: Callable[[Any, Any], Any], left: Work, right: Work) -> Work:
    return lambda channels: function(left(channels), right(channels))


def _power(base: Any, exponent: Any) -> Any:
    # A negative number has no real power that is not whole: NaN, never a complex number.
    return np.power(np.asarray(base, np.result_type(base, np.float32)), exponent)


def _compared(function: Callable[[Any, Any], Any], left: Work, right: Work) -> Work:
    def work(channels: Mapping[str, Value]) -> Value:
        first, other = left(channels), right(channels)
        undefined = np.isnan(first) | np.isnan(other)
        kind = np.result_type(first, other, np.float32)
        result = np.where(undefined, np.nan, function(first, other)).astype(kind)
        return result if result.ndim else float(result)

    return work
