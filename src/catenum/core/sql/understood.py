"""Whether a statement is understood whole: the condition for calling it independent of anything.

A parse tree is understood where each of its nodes is on the list below *and* the shape of the whole
is one that ``statements`` reads completely. What is not on the list may still be harmless; it is
then assumed to touch everything, which costs schedules and no truth. So a node belongs on the list
only where it reads nothing but the rows of the tables named in the statement and changes nothing
but the rows of the one table that is its target.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache

from catenum.core.sql.parser import exp


@cache
def _plain() -> frozenset[type[exp.Expr]]:
    """Names, literals, operators and clauses: they compute on the rows at hand."""
    return frozenset(
        {
            *(
                exp.Identifier,
                exp.Column,
                exp.Table,
                exp.TableAlias,
                exp.Alias,
                exp.Literal,
                exp.Null,
                exp.Boolean,
            ),
            *(
                exp.Star,
                exp.Var,
                exp.Placeholder,
                exp.Parameter,
                exp.Paren,
                exp.Tuple,
                exp.Array,
                exp.Interval,
            ),
            *(
                exp.Neg,
                exp.Not,
                exp.And,
                exp.Or,
                exp.EQ,
                exp.NEQ,
                exp.NullSafeEQ,
                exp.NullSafeNEQ,
                exp.GT,
                exp.GTE,
            ),
            *(
                exp.LT,
                exp.LTE,
                exp.Is,
                exp.In,
                exp.Between,
                exp.Like,
                exp.ILike,
                exp.Add,
                exp.Sub,
                exp.Mul,
                exp.Div,
            ),
            *(
                exp.IntDiv,
                exp.Mod,
                exp.DPipe,
                exp.Any,
                exp.All,
                exp.Exists,
                exp.Case,
                exp.If,
                exp.Distinct,
            ),
            *(
                exp.Select,
                exp.Subquery,
                exp.Union,
                exp.Intersect,
                exp.Except,
                exp.From,
                exp.Join,
                exp.Where,
                exp.Group,
            ),
            *(
                exp.Having,
                exp.Order,
                exp.Ordered,
                exp.Limit,
                exp.Offset,
                exp.Fetch,
                exp.With,
                exp.CTE,
                exp.Lock,
            ),
            *(
                exp.Values,
                exp.Schema,
                exp.Insert,
                exp.Update,
                exp.Delete,
                exp.Merge,
                exp.When,
                exp.Whens,
                exp.OnConflict,
            ),
            *(exp.IndexTableHint, exp.Returning, exp.Window, exp.WindowSpec, exp.Filter),
            *(exp.Cast, exp.TryCast, exp.DataType, exp.DataTypeParam),
            *(
                exp.Set,
                exp.SetItem,
                exp.PropertyEQ,
                exp.TruncateTable,
                exp.Create,
                exp.Index,
                exp.IndexParameters,
            ),
            *(
                exp.Alter,
                exp.ColumnDef,
                exp.ColumnConstraint,
                exp.NotNullColumnConstraint,
                exp.DefaultColumnConstraint,
            ),
        }
    )


@cache
def _functions() -> frozenset[type[exp.Expr]]:
    """Functions that read nothing but their arguments, the clock, chance, the session, a sequence
    or a named lock.
    """
    return frozenset(
        {
            *(
                exp.Count,
                exp.Sum,
                exp.Min,
                exp.Max,
                exp.Avg,
                exp.ArrayAgg,
                exp.GroupConcat,
                exp.RowNumber,
                exp.Rank,
            ),
            *(
                exp.Coalesce,
                exp.Nullif,
                exp.Greatest,
                exp.Least,
                exp.Abs,
                exp.Round,
                exp.Floor,
                exp.Ceil,
                exp.Sign,
            ),
            *(
                exp.Lower,
                exp.Upper,
                exp.Length,
                exp.Concat,
                exp.ConcatWs,
                exp.Substring,
                exp.Trim,
                exp.Replace,
                exp.MD5,
            ),
            *(
                exp.CurrentTimestamp,
                exp.CurrentDate,
                exp.CurrentTime,
                exp.Localtime,
                exp.Localtimestamp,
                exp.Rand,
            ),
            *(
                exp.Uuid,
                exp.Extract,
                exp.TimestampTrunc,
                exp.DateAdd,
                exp.DateSub,
                exp.NextValueFor,
            ),
            *(exp.GenerateSeries,),
        }
    )


def is_understood(tree: exp.Expr) -> bool:
    """Whether ``tree`` is read whole: what it names is all that it touches. Calls by name are
    judged elsewhere.
    """
    known = _plain() | _functions() | {exp.Anonymous}
    if any(type(node) not in known for node in tree.walk()):
        return False
    return not any(_misread(tree))


def _misread(tree: exp.Expr) -> Iterator[bool]:
    """Shapes of nodes that are each understood, while the whole is not."""
    inner = [
        node
        for node in tree.find_all(exp.Insert, exp.Update, exp.Delete, exp.Merge)
        if node is not tree
    ]
    yield not all(
        isinstance(tree, exp.Merge) and isinstance(node.parent, exp.When) for node in inner
    )
    yield isinstance(tree, exp.Set) and not sets_own_variables(tree)
    yield any(node is not tree for node in tree.find_all(exp.Create, exp.Alter, exp.TruncateTable))
    yield _common_names_are_doubtful(tree)
    yield any(_locks_more_than_tables(select) for select in tree.find_all(exp.Select))
    if isinstance(tree, exp.Update):
        yield not all(_sets_one_column(term) for term in tree.expressions)
        yield not isinstance(tree.this, exp.Table) or bool(tree.this.args.get("joins"))
    if isinstance(tree, exp.Delete):
        yield bool(tree.args.get("tables")) or not isinstance(tree.this, exp.Table)
        yield bool(tree.this.args.get("joins") if isinstance(tree.this, exp.Table) else True)
    if isinstance(
        tree, exp.TruncateTable
    ):  # a second table, CASCADE and RESTART IDENTITY reach further
        yield len(tree.expressions) != 1 or any(
            tree.args.get(word) for word in ("option", "identity", "partition")
        )
    if isinstance(tree, exp.Create):
        yield str(tree.args.get("kind") or "").lower() != "index"
    if isinstance(tree, exp.Alter):  # other actions look at other tables, or begin to
        yield not all(
            isinstance(action, exp.ColumnDef) for action in tree.args.get("actions") or [None]
        )


def _sets_one_column(term: exp.Expr) -> bool:
    return isinstance(term, exp.EQ) and isinstance(term.this, exp.Column)


def _common_names_are_doubtful(tree: exp.Expr) -> bool:
    """Whether it takes rules of scope to know if a name means a common table expression or a
    table.
    """
    withs = list(tree.find_all(exp.With))
    if len(withs) > 1 or (withs and withs[0].parent is not tree):
        return bool(withs)
    if not withs:
        return False
    names = [cte.alias.lower() for cte in withs[0].expressions]
    for place, cte in enumerate(withs[0].expressions):
        later = set(names[place:])
        if any(table.name.lower() in later for table in cte.find_all(exp.Table)):
            return True
    target = (
        tree.this if isinstance(tree, exp.Insert | exp.Update | exp.Delete | exp.Merge) else None
    )
    named = target.this if isinstance(target, exp.Schema) else target
    return isinstance(named, exp.Table) and named.name.lower() in names


def _locks_more_than_tables(select: exp.Select) -> bool:
    """Whether a lock clause reaches into a subquery or a common table expression (PostgreSQL,
    "SELECT", the locking clause: it "affects all tables used in the view or sub-query").
    """
    if not select.args.get("locks"):
        return False
    common = {cte.alias.lower() for cte in select.root().find_all(exp.CTE)}
    source = select.args.get("from_") or select.args.get("from")
    sources = [
        source.this if source is not None else None,
        *(join.this for join in select.args.get("joins") or ()),
    ]
    return not all(
        isinstance(one, exp.Table) and one.name.lower() not in common
        for one in sources
        if one is not None
    )


def sets_own_variables(tree: exp.Set) -> bool:
    """Whether a SET sets variables of the user's own only, which no server rule looks at."""
    return all(
        item.this is not None and isinstance(item.this.this, exp.Parameter)
        for item in tree.expressions
    )


def names_rows_plainly(tree: exp.Expr) -> bool:
    """Whether the WHERE clause of ``tree`` can only speak of the one table that the statement
    names, and says which rows are come by: not where another index is to be gone through, since
    what is passed there is locked.
    """
    if tree.find(exp.IndexTableHint) is not None and not goes_by_primary_key(tree):
        return False
    if sum(1 for _ in tree.find_all(exp.Table)) != 1:
        return False
    return not any(
        tree.find_all(exp.Subquery, exp.Join, exp.CTE, exp.Lateral, exp.Unnest, exp.SetOperation)
    )


def goes_by_primary_key(tree: exp.Expr) -> bool:
    """Whether its only hint is FORCE INDEX (PRIMARY): where the key is compared with values, a scan
    is then no choice (MySQL manual, "Index Hints": "a table scan is assumed to be very expensive";
    test_quick_select is told to take a range at any cost).
    """
    hints = list(tree.find_all(exp.IndexTableHint))
    if len(hints) != 1 or str(hints[0].this).upper() != "FORCE" or hints[0].args.get("target"):
        return False
    return [one.name.lower() for one in hints[0].expressions] == ["primary"]


def counts_found_rows(tree: exp.Expr) -> bool:
    """Whether the number of rows that ``tree`` reports is that of rows of its one table that it
    found: no group, no aggregate, no limit.
    """
    if not isinstance(tree, exp.Select | exp.Update) or not names_rows_plainly(tree):
        return False
    if any(
        tree.args.get(part)
        for part in ("group", "having", "distinct", "limit", "offset", "qualify")
    ):
        return False
    return not any(one.find(exp.AggFunc, exp.Window) for one in tree.expressions)


@cache
def _harmless_parts() -> tuple[type[exp.Expr], ...]:
    """What stands in an expression that no value makes fail, apart from numbers that grow too
    large.
    """
    return (
        exp.Column,
        exp.Identifier,
        exp.Literal,
        exp.Star,
        exp.Add,
        exp.Sub,
        exp.Neg,
        exp.Paren,
        exp.Alias,
    )


def computes_plainly(tree: exp.Expr) -> bool:
    """Whether what ``tree`` returns or sets is made of columns and literals alone: servers may
    compute it before they lock the row (PostgreSQL, ``ExecUpdate`` in nodeModifyTable.c: projection
    and checks, then ``table_tuple_update``), and one that fails then does not wait.
    """
    if isinstance(tree, exp.Delete):
        return tree.args.get("returning") is None
    if not isinstance(tree, exp.Select | exp.Update) or tree.args.get("returning") is not None:
        return False
    terms = tree.expressions
    if isinstance(tree, exp.Update):
        terms = [term.expression if isinstance(term, exp.EQ) else term for term in terms]
    return all(isinstance(node, _harmless_parts()) for term in terms for node in term.walk())
