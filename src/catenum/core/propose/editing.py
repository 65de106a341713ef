"""Changes a statement's text at places that the tokens give, and holds the result against its parse
tree.

The tree says what the change means; the text is edited so that a person finds the statement as it
was written, with comments, blanks and lines. Where the edited text does not parse to the tree that
was meant, the tree is written out.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import sqlglot
from sqlglot import exp
from sqlglot.dialects import Dialect
from sqlglot.errors import SqlglotError
from sqlglot.tokens import Token, TokenType  # type: ignore[attr-defined] # they are its public names

#: What ends a condition at the same depth of brackets.
_BEHIND_WHERE = frozenset(
    ["RETURNING", "ORDER BY", "GROUP BY", "HAVING", "LIMIT", "FETCH", "FOR", "LOCK", "WINDOW"]
)
#: What the value of a parameter can be replaced by without brackets.
_WHOLE = (
    exp.Column,
    exp.Literal,
    exp.Paren,
    exp.Subquery,
    exp.Func,
    exp.Placeholder,
    exp.Null,
    exp.Boolean,
)


def tokens_of(sql: str, dialect: str) -> list[Token]:
    """The tokens of one statement, without comments and without semicolons behind it; empty where
    there are none.
    """
    try:
        found = Dialect.get_or_raise(dialect).tokenize(sql)
    except SqlglotError:
        return []
    while found and found[-1].token_type is TokenType.SEMICOLON:
        found.pop()
    return list(found)


def parsed(sql: str, dialect: str) -> exp.Expr | None:
    """The tree of one statement; None for what cannot be parsed, or is several."""
    try:
        trees = [tree for tree in sqlglot.parse(sql, dialect=dialect) if tree is not None]
    except (SqlglotError, RecursionError):
        return None
    tree = trees[0] if len(trees) == 1 else None
    return tree if isinstance(tree, exp.Expr) else None


def written(one: exp.Expr, dialect: str) -> str:
    """The text of a part of a statement, its values by their names, as a scenario has them; without
    comments.
    """
    reported = one.transform(
        lambda node: (
            exp.Var(this=f":{node.name}")
            if isinstance(node, exp.Placeholder) and node.name
            else node
        )
    )
    return _in_lower_case(str(reported.sql(dialect=dialect, comments=False)), dialect)


def _in_lower_case(sql: str, dialect: str) -> str:
    """The same with its keywords in lower case; names and literals as they are."""
    text = sql
    for token in reversed(tokens_of(sql, dialect)):
        spoken = token.token_type not in (
            TokenType.STRING,
            TokenType.IDENTIFIER,
            TokenType.VAR,
            TokenType.NUMBER,
        )
        if spoken and sql[token.start : token.end + 1].upper() == token.text.upper():
            word = text[token.start : token.end + 1].lower()
            text = f"{text[: token.start]}{word}{text[token.end + 1 :]}"
    return text


def whole(one: exp.Expr) -> exp.Expr:
    """A copy of an expression, in brackets where something that stands beside it could tear it
    apart.
    """
    stands = isinstance(one, _WHOLE) and not isinstance(
        one, exp.Binary | exp.Not
    )  # AND and OR count as functions
    return one.copy() if stands else exp.Paren(this=one.copy())


def checked(text: str, meant: exp.Expr, dialect: str) -> str:
    """The edited text, where it means what it should; else the tree, written out."""
    return text if parsed(text, dialect) == meant else written(meant, dialect)


def _at_depth_0(tokens: Sequence[Token]) -> list[tuple[int, Token]]:
    depth, found = 0, []
    for place, token in enumerate(tokens):
        if token.token_type is TokenType.R_PAREN:
            depth -= 1
        if depth == 0:
            found.append((place, token))
        if token.token_type is TokenType.L_PAREN:
            depth += 1
    return found


def with_condition(sql: str, tree: exp.Expr, terms: Sequence[exp.Expr], dialect: str) -> str | None:
    """The same statement, only where all of ``terms`` are true as well; None where it has no
    condition.
    """
    where = tree.args.get("where")
    if where is None or not terms:
        return None
    meant = tree.copy()
    both = meant.args["where"].this
    both = exp.Paren(this=both) if isinstance(both, exp.Or) else both
    reported = []
    for term in terms:
        asked = term.copy() if not isinstance(term, exp.Or) else exp.Paren(this=term.copy())
        reported.append(written(asked, dialect))
        both = exp.And(this=both, expression=asked)
    meant.args["where"].set("this", both)
    tokens = tokens_of(sql, dialect)
    outer = _at_depth_0(tokens)
    place = next((at for at, token in reversed(outer) if token.token_type is TokenType.WHERE), None)
    if place is None or place + 1 >= len(tokens):
        return written(meant, dialect)
    behind = (at for at, token in outer if at > place and token.text.upper() in _BEHIND_WHERE)
    last = next(behind, len(tokens)) - 1
    start, end = tokens[place + 1].start, tokens[last].end + 1
    old = f"({sql[start:end]})" if isinstance(where.this, exp.Or) else sql[start:end]
    text = f"{sql[:start]}{old} and {' and '.join(reported)}{sql[end:]}"
    return checked(text, meant, dialect)


def _lock_words(tokens: Sequence[Token]) -> int | None:
    """Where the lock clause of a SELECT begins."""
    for at, token in _at_depth_0(tokens):
        following = tokens[at + 1].text.upper() if at + 1 < len(tokens) else ""
        if token.text.upper() == "FOR" and following in ("UPDATE", "SHARE", "NO", "KEY"):
            return at
        if token.text.upper() == "LOCK" and following == "IN":
            return at
    return None


def lock_clause(sql: str, dialect: str) -> str | None:
    """The lock clause of a SELECT as it is written, in lower case and single blanks; None where it
    has none.
    """
    tokens = tokens_of(sql, dialect)
    at = _lock_words(tokens)
    return " ".join(token.text.lower() for token in tokens[at:]) if at is not None else None


def with_lock(sql: str, clause: str | None, dialect: str) -> str:
    """The same SELECT with this lock clause in place of its own; without one for None."""
    tokens = tokens_of(sql, dialect)
    if not tokens:
        return sql
    at = _lock_words(tokens)
    kept = tokens[:at] if at is not None else tokens
    place, cut = kept[-1].end + 1, tokens[-1].end + 1
    between = sql[place : tokens[at].start].rstrip(" ") if at is not None else ""
    return f"{sql[:place]}{f' {clause}' if clause else ''}{between}{sql[cut:].rstrip().rstrip(';')}"


def bare(sql: str, dialect: str) -> str:
    """The statement without a semicolon, or comments, behind it."""
    tokens = tokens_of(sql, dialect)
    return sql[: tokens[-1].end + 1] if tokens else sql


def with_value(sql: str, tree: exp.Expr, name: str, value: exp.Expr, dialect: str) -> str:
    """The same statement with an expression in place of a parameter."""
    put = whole(value)
    meant = tree.transform(
        lambda node: put.copy() if isinstance(node, exp.Placeholder) and node.name == name else node
    )
    tokens = tokens_of(sql, dialect)
    places = [
        (colon.start, word.end + 1)
        for colon, word in pairwise(tokens)
        if colon.token_type is TokenType.COLON and word.start == colon.end + 1 and word.text == name
    ]
    text, reported = sql, written(put, dialect)
    for start, end in reversed(places):
        text = f"{text[:start]}{reported}{text[end:]}"
    return checked(text, meant, dialect)


def of_table(value: str, table: str, dialect: str) -> str:
    """An expression whose columns name their table."""
    tree = parsed(f"select {value}", dialect)
    if not isinstance(tree, exp.Select):
        return value
    for column in tree.find_all(exp.Column):
        if not column.table:
            column.set("table", exp.to_identifier(table))
    return written(tree.expressions[0], dialect)
