"""The grammar of expressions, and its reader.

From the loosest to the tightest: or; and; not; comparisons and in; + -; * / // %; signs; **; numbers,
'words', names, functions and brackets. A name is a word, or words with dots between them, or anything in
`backquotes`;
`=` is `==`. An error tells the character at which it was found.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from zembrel.errors import UsageError, nearest_name
from zembrel.expression.functions import (
    ARITHMETIC,
    AROUND,
    BITS,
    COMPARISONS,
    FUNCTIONS,
    HIGHEST_BIT,
    MEDIAN_WIDEST,
    WIDEST,
)
from zembrel.expression.tree import (
    WORD,
    WORDS,
    Arithmetic,
    Call,
    Comparison,
    Constant,
    Logical,
    Name,
    Neighbourhood,
    Node,
    Sign,
)

_LONGEST, _DEEPEST = 2_000, 60  # characters, and brackets in brackets
_LONGEST_CHAIN = 120  # operations, each of which needs the one before
_TOKENS = re.compile(
    r"(?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)|(?P<word>'[^']*'|\"[^\"]*\")|(?P<quoted>`[^`]+`)"
    r"|(?P<name>[^\W\d]\w*(?:\.\w+)*)|(?P<sign>\*\*|//|==|!=|<=|>=|[-+*/%<>=(),\[\]])"
)
_KEYWORDS = ("and", "or", "not", "in")
_EXAMPLE = "write for example value > 3, kind == 'wood' or where(a > 0, a, b)"


_STRANGE = {
    "&": "'&' means nothing: conditions are joined by and, bits are taken by bit(a, 3) or bits(a, 0, 2)",
    "|": "'|' means nothing: conditions are joined by or, bits are taken by bit(a, 3) or bits(a, 0, 2)",
}


class _Token(NamedTuple):
    kind: str  # number, word, quoted, name, sign, keyword, or end
    text: str
    at: int


def parse(text: str) -> Node:
    """The tree of an expression. Raises UsageError, with the character at which it cannot be read."""
    reader = _Reader(text)
    tree = reader.whole()
    reader.check_depth(tree)
    return tree


class _Reader:
    def __init__(self, text: str) -> None:
        self._text, self._next, self._depth = text, 0, 0
        if len(text) > _LONGEST:
            raise self._error(f"it has {len(text):,} characters, {_LONGEST:,} at most are read", 0)
        self._tokens = list(self._cut())

    def _cut(self) -> Iterator[_Token]:
        at = 0
        while at < len(self._text):
            if self._text[at].isspace():
                at += 1
                continue
            match = _TOKENS.match(self._text, at)
            if match is None:
                raise self._error(_STRANGE.get(self._text[at], f"{self._text[at]!r} means nothing"), at)
            kind = str(match.lastgroup)
            token = match[0]
            kind = "keyword" if kind == "name" and token in _KEYWORDS else kind
            yield _Token(kind, token, at)
            at = match.end()
        yield _Token("end", "", len(self._text))

    def _error(self, why: str, at: int) -> UsageError:
        return UsageError(f"{self._text[:80]!r} cannot be read at character {at + 1}", why, _EXAMPLE)

    @property
    def _token(self) -> _Token:
        return self._tokens[self._next]

    def _take(self, *texts: str) -> str | None:
        """The next token if it is one of these signs or keywords."""
        token = self._token
        if token.kind in ("sign", "keyword") and token.text in texts:
            self._next += 1
            return token.text
        return None

    def _need(self, text: str) -> None:
        if self._take(text) is None:
            found = repr(self._token.text) if self._token.text else "the end"
            raise self._error(f"{text!r} is needed, not {found}", self._token.at)

    def check_depth(self, tree: Node) -> None:
        """Raise UsageError for a tree that nobody could follow, such as a sum of hundreds of parts."""
        level = [tree]
        for _ in range(_LONGEST_CHAIN):
            level = [part for node in level for part in node.parts]
            if not level:
                return
        raise self._error(f"more than {_LONGEST_CHAIN} steps stand one on another", level[0].at)

    def whole(self) -> Node:
        node = self._either()
        if self._token.kind != "end":
            raise self._error(f"{self._token.text!r} cannot follow what stands before it", self._token.at)
        return node

    def _either(self) -> Node:
        return self._joined("or", self._both)

    def _both(self) -> Node:
        return self._joined("and", self._not)

    def _joined(self, word: str, inner: Callable[[], Node]) -> Node:
        at, parts = self._token.at, [inner()]
        while self._take(word):
            parts.append(inner())
        if len(parts) == 1:
            return parts[0]
        for part in parts:
            self._check(part, f"{word} joins conditions", WORD, WORDS)
        return Logical(at, word, tuple(parts))

    def _not(self) -> Node:
        at = self._token.at
        if self._take("not"):
            part = self._deeper(self._not)
            self._check(part, "not turns a condition round", WORD, WORDS)
            return Logical(at, "not", (part,))
        return self._comparison()

    def _comparison(self) -> Node:
        at, parts, signs = self._token.at, [self._sum()], []
        while (sign := self._sign_of_comparison()) is not None:
            part = self._list() if sign.endswith("in") else self._sum()
            signs.append(sign)
            parts.append(part)
            if not sign.endswith("in"):
                self._check(part, f"{sign} compares single values", WORDS)
        return parts[0] if len(parts) == 1 else Comparison(at, tuple(signs), tuple(parts))

    def _sign_of_comparison(self) -> str | None:
        if self._token.text == "not" and self._tokens[self._next + 1].text == "in":
            self._next += 2
            return "not in"
        sign = self._take("=", *COMPARISONS)
        return "==" if sign == "=" else sign

    def _list(self) -> Node:
        """Numbers or words in brackets."""
        at, closing = self._token.at, {"(": ")", "[": "]"}.get(self._take("(", "[") or "")
        if closing is None:
            raise self._error("in wants a list in brackets", at)
        held = []
        while not self._take(closing):
            part = self._sum()
            if isinstance(part, Sign) and isinstance(part.part, Constant):
                part = Constant(part.at, part.value({}))
            if not isinstance(part, Constant):
                raise self._error("a list holds numbers and 'words'", part.at)
            held.append(part.held)
            if self._token.text != closing:
                self._need(",")
        return Constant(at, tuple(held))

    def _sum(self) -> Node:
        return self._chain(("+", "-"), self._product)

    def _product(self) -> Node:
        return self._chain(("*", "/", "//", "%"), self._signed)

    def _chain(self, signs: tuple[str, ...], inner: Callable[[], Node]) -> Node:
        at, node = self._token.at, inner()
        while (sign := self._take(*signs)) is not None:
            node = self._arithmetic(at, sign, node, inner())
        return node

    def _arithmetic(self, at: int, sign: str, left: Node, right: Node) -> Node:
        assert sign in ARITHMETIC
        for part in (left, right):
            self._check(part, f"{sign} works on numbers", WORD, WORDS)
        return Arithmetic(at, sign, left, right)

    def _signed(self) -> Node:
        at = self._token.at
        sign = self._take("-", "+")
        if sign is None:
            return self._power()
        part = self._deeper(self._signed)
        self._check(part, f"{sign} works on numbers", WORD, WORDS)
        return Sign(at, sign, part)

    def _power(self) -> Node:
        at, base = self._token.at, self._single()
        return self._arithmetic(at, "**", base, self._deeper(self._signed)) if self._take("**") else base

    def _single(self) -> Node:
        token = self._token
        if self._take("("):
            node = self._deeper(self._either)
            self._need(")")
            return node
        if token.kind == "name" and self._tokens[self._next + 1].text == "(":
            return self._call(token)
        if token.kind not in ("number", "word", "quoted", "name"):
            raise self._error(
                f"a value is needed, not {token.text!r}" if token.text else "it ends too early", token.at
            )
        self._next += 1
        if token.kind == "number":
            return Constant(token.at, int(token.text) if token.text.isdigit() else float(token.text))
        if token.kind == "word":
            return Constant(token.at, token.text[1:-1])
        return Name(token.at, token.text.strip("`"))

    def _call(self, token: _Token) -> Node:
        if token.text not in (*FUNCTIONS, *AROUND, *BITS):
            near = nearest_name(token.text, (*FUNCTIONS, *AROUND, *BITS))
            raise self._error(f"there is no function {token.text!r}: {near}", token.at)
        self._next += 2
        operands: list[Node] = []
        while not self._take(")"):
            operands.append(self._deeper(self._either))
            if self._token.text != ")":
                self._need(",")
        around = token.text in AROUND
        if token.text in BITS:
            least = most = BITS[token.text]
        else:
            least, most = (2, 2) if around else FUNCTIONS[token.text][1:3]
        if not least <= len(operands) <= most:
            due = (
                f"{least} to {most} operands" if least < most else f"{most} operand{'s' if most > 1 else ''}"
            )
            raise self._error(f"{token.text} has {due}, not {len(operands)}", token.at)
        if around:
            return self._around(token, *operands)
        if token.text in BITS:
            return self._bits(token, *operands)
        for number, operand in enumerate(operands):
            if token.text == "where" and number == 0:
                self._check(operand, "where wants a condition first", WORD, WORDS)
            elif token.text not in ("where", "valid"):
                self._check(operand, f"{token.text} works on numbers", WORD, WORDS)
        return Call(token.at, token.text, tuple(operands))

    def _bits(self, token: _Token, value: Node, first: Node, last: Node | None = None) -> Node:
        """The number that some bits of a value make: what is left of it above the first, below the last."""
        self._check(value, f"{token.text} works on numbers", WORD, WORDS)
        lowest, highest = (_whole_of(node) for node in (first, last or first))
        if lowest is None or highest is None or not 0 <= lowest <= highest <= HIGHEST_BIT:
            raise self._error(f"bits are whole numbers from 0 to {HIGHEST_BIT}, the lower first", first.at)
        above = Arithmetic(token.at, "//", value, Constant(first.at, 2**lowest))
        return Arithmetic(token.at, "%", above, Constant(first.at, 2 ** (highest - lowest + 1)))

    def _around(self, token: _Token, part: Node, reach: Node) -> Node:
        most = MEDIAN_WIDEST if token.text.startswith("median") else WIDEST
        self._check(part, f"{token.text} works on numbers", WORD, WORDS)
        held = reach.held if isinstance(reach, Constant) else None
        if not isinstance(held, int) or not 1 <= held <= most:
            raise self._error(f"{token.text} has a reach of 1 to {most} cells", reach.at)
        return Neighbourhood(token.at, token.text.removesuffix("_around"), part, held)

    def _deeper(self, inner: Callable[[], Node]) -> Node:
        self._depth += 1
        if self._depth > _DEEPEST:
            raise self._error(f"it nests deeper than {_DEEPEST}", self._token.at)
        node: Node = inner()
        self._depth -= 1
        return node

    def _check(self, part: Node, why: str, *wrong: str) -> None:
        """Raise UsageError for a part that gives something else than may stand there."""
        if part.kind in wrong:
            raise self._error(f"{why}, and this is {part.kind}", part.at)


def _whole_of(node: Node) -> int | None:
    """The whole number that a node is, if it is one."""
    return node.held if isinstance(node, Constant) and isinstance(node.held, int) else None
