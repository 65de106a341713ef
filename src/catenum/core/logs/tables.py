"""Tables as their definitions say, from a schema file: columns, keys, references, and what to leave
out.

A dump is accepted as it is: session settings, owners, grants and comments are dropped, and so is
the name of the schema in front of a table's.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.servers import Rules

#: What a schema file may bring into the scratch space.
_KEPT = re.compile(
    r"(?is)\s*(?:create\s+(?:or\s+replace\s+)?(?:unlogged\s+)?(?:table|unique\s+index|index|sequence|type|domain|view|"
    r"materialized\s+view|function|procedure|trigger|constraint\s+trigger)\b|alter\s+(?:table|sequence)\b)"
)
_NOT_KEPT = re.compile(
    r"(?is)\s*alter\s+\S+\s+(?:only\s+)?\S+\s+(?:owner\s+to|enable\s+row|replica\s+identity|cluster\s+on)|"
    r"\s*create\s+table\s+(?:if\s+not\s+exists\s+)?\S*\bcatenum_"
)
_META = re.compile(r"^\\.*$", re.MULTILINE)
_COPIED = re.compile(r"^COPY .*? FROM stdin;\n.*?^\\\.$", re.MULTILINE | re.DOTALL | re.IGNORECASE)
_DELIMITER = re.compile(r"^DELIMITER\s.*$", re.MULTILINE | re.IGNORECASE)


@dataclass(slots=True)
class Column:
    """One column: its type as it is written, and whether a row must give it a value."""

    name: str
    type: str
    needed: bool = False
    made: bool = False
    computed: bool = False  # from other columns: no row gives it a value
    always: bool = False  # made by the server, unless a row says that it overrides that
    labels: tuple[str, ...] = ()  # of an enumerated type, or those that a check lets in
    least: float | None = None  # by its checks
    most: float | None = None


#: A field that is no column's.
HIDDEN = ("", "")


@dataclass(slots=True)
class TableInfo:
    """One table: what a row of it needs."""

    name: str
    columns: dict[str, Column] = field(default_factory=dict)
    primary: tuple[str, ...] = ()
    unique: list[tuple[str, ...]] = field(default_factory=list)
    references: list[tuple[tuple[str, ...], str, tuple[str, ...]]] = field(default_factory=list)
    indexes: dict[str, tuple[str, ...]] = field(default_factory=dict)

    def entry(self, index: str) -> list[tuple[str, str]] | None:
        """The fields of an InnoDB index's entries by column and type; those of the primary key are
        the whole row.
        """
        own = self.primary if index == "PRIMARY" else self.indexes.get(index)
        if not own:
            return None
        names = dict.fromkeys([*own, *self.primary])
        entry = [(name, self.columns[name].type) for name in names if name in self.columns]
        if index != "PRIMARY":
            return entry
        # Behind the key two fields of InnoDB's own (transaction, roll pointer), then the row
        # ("InnoDB Row Formats").
        rest = [
            (column.name, column.type)
            for column in self.columns.values()
            if column.name not in names
        ]
        return [*entry, HIDDEN, HIDDEN, *rest]


@dataclass(slots=True)
class Schema:
    """The statements of a schema file that are kept, by the table that they are about ('' for
    none), and its tables.
    """

    statements: list[tuple[str, str]] = field(default_factory=list)
    tables: dict[str, TableInfo] = field(default_factory=dict)
    dropped: Counter[str] = field(default_factory=Counter)


def read_schema(text: str, rules: Rules) -> Schema:
    """A schema file. What cannot be read is kept as it is: the server says what is wrong with
    it.
    """
    text = _META.sub("", _COPIED.sub("", _DELIMITER.sub("", text)))
    found = Schema()
    schemas = set(
        re.findall(r"(?i)create\s+table\s+(?:if\s+not\s+exists\s+)?([\w\"`]+)\.", text)
    ) | {"public"}
    for _, sql in rules.sql.split(rules.sql.uncovered(text)):
        plain = _without_definer(_without_comments(sql))
        if not plain:
            continue
        if not _KEPT.match(plain) or _NOT_KEPT.match(plain):
            found.dropped[" ".join(plain.split()[:2]).lower().rstrip(";")] += 1
            continue
        plain = _without_schemas(plain, schemas, rules)
        table = _read(plain, found, rules.sql.dialect)
        found.statements.append((table, plain))
    _take_checks(text, found)
    enums = {
        name.lower(): _labels(body)
        for _, sql in found.statements
        for name, body in _ENUM.findall(sql)
    }
    for info in found.tables.values():
        for column in info.columns.values():
            own = re.match(r"enum\s*\((.*)\)", column.type, re.DOTALL)
            listed = _labels(own[1]) if own else enums.get(column.type.strip('"'), ())
            column.labels = listed or column.labels
    return found


#: What a check compares a column with, as people and dumps write it.
_COMPARED = r"\(*[\"`]?{}[\"`]?\)*(?:::\w+(?: \w+)*)?\)*\s*"
_BOUND = r"(>=?|<=?)\s*\(*'?(-?\d+(?:\.\d+)?)"
_BETWEEN = r"between\s+\(*'?(-?\d+(?:\.\d+)?)'?\)*\s*(?:::\w+\s*)?and\s+\(*'?(-?\d+(?:\.\d+)?)"
_LISTED = r"(?:in\s*\(|=\s*any\s*\(\(*array\[)([^\])]*)"
_DOMAIN = re.compile(r"(?is)create\s+domain\s+(?:\w+\.)?[\"`]?(\w+)[\"`]?\s+as\s+([^;]*)")
_NOT_NULL = re.compile(r"(?i)\bnot\s+null\b")


def _take_checks(text: str, found: Schema) -> None:
    """Take in which values checks let in: those of tables and of domains, as far as they compare
    with constants.
    """
    domains = {name.lower(): body for name, body in _DOMAIN.findall(text)}
    for table, sql in found.statements:
        info = found.tables.get(table)
        checks = (
            re.findall(r"(?is)\bcheck\s*\((.*?)\)\s*(?:,|\)|$|not\s+valid|constraint)", sql)
            if info
            else []
        )
        for column in info.columns.values() if info is not None else ():
            for check in checks:
                _bound(column, column.name, check)
    for info in found.tables.values():
        for column in info.columns.values():
            body = domains.get(column.type.strip('"'))
            if body is not None:
                _bound(column, "value", body)
                column.type = re.split(
                    r"(?i)\s+(?:check|constraint|not|default|collate)\b", body.strip()
                )[0].lower()
                column.needed = column.needed or _NOT_NULL.search(body) is not None


def _bound(column: Column, name: str, check: str) -> None:
    compared = _COMPARED.format(re.escape(name))
    for sign, number in re.findall(rf"(?i)\b{compared}{_BOUND}", check):
        value = float(number)
        if sign[0] == ">":
            column.least = max(
                value + (sign == ">"), column.least if column.least is not None else value
            )
        else:
            column.most = min(
                value - (sign == "<"), column.most if column.most is not None else value
            )
    for low, high in re.findall(rf"(?i)\b{compared}{_BETWEEN}", check):
        column.least, column.most = float(low), float(high)
    for listed in re.findall(rf"(?i)\b{compared}{_LISTED}", check):
        column.labels = _labels(listed) or tuple(re.findall(r"-?\d+(?:\.\d+)?", listed))


_ENUM = re.compile(r"(?is)create\s+type\s+[\"]?(\w+)[\"]?\s+as\s+enum\s*\((.*?)\)")


def _labels(text: str) -> tuple[str, ...]:
    return tuple(label.replace("''", "'") for label in re.findall(r"'((?:[^']|'')*)'", text))


def _without_comments(sql: str) -> str:
    return re.sub(r"\A(?:\s|--[^\n]*\n?|/\*.*?\*/)*", "", sql, flags=re.DOTALL).strip()


#: Who a view, a routine or a trigger is of, and how a view is computed: here all are the run's own.
_DEFINER = re.compile(
    r"(?is)\A(create\s+(?:or\s+replace\s+)?)((?:(?:algorithm\s*=\s*\w+|definer\s*=\s*(?:`[^`]*`|'[^']*'|\"[^\"]*\"|\w+)"
    r"(?:\s*@\s*(?:`[^`]*`|'[^']*'|\"[^\"]*\"|[\w.%]+))?|sql\s+security\s+\w+)\s+)+)"
)


_TABLESPACE = re.compile(r"(?i)\s*\btablespace\s*=?\s*(?:`[^`]*`|\w+)")


def _without_definer(sql: str) -> str:
    sql = _DEFINER.sub(r"\1", sql)
    # Where a table lies is the server's own, and a private one has other places.
    return _TABLESPACE.sub("", sql) if re.match(r"(?i)create\s+table\b", sql) else sql


def _without_schemas(sql: str, schemas: Collection[str], rules: Rules) -> str:
    names = "|".join(sorted(map(re.escape, schemas), key=len, reverse=True))
    pattern = re.compile(rf"(?<![\w.\"`])(?:{names})\.(?=[\w\"`])")
    parts, at = [], 0
    for opaque in rules.sql.token_patterns.opaque.finditer(sql):
        if opaque[0][:1] in '"`':
            continue
        whole = opaque[0]
        if whole.startswith("$"):  # a function's body is SQL of its own
            continue
        inner = re.sub(rf"'(?:{names})\.", "'", whole)  # nextval('public.berth_id_seq')
        parts += [pattern.sub("", sql[at : opaque.start()]), inner]
        at = opaque.end()
    return "".join([*parts, pattern.sub("", sql[at:])])


def _read(sql: str, found: Schema, dialect: str) -> str:
    """Take in what a statement says of a table; gives the table's name in lower case, '' where it
    is about none.
    """
    tree = _parsed(sql, dialect)
    if tree is None:
        return _by_text(sql, found)
    if isinstance(tree, exp.Create) and tree.kind == "TABLE" and isinstance(tree.this, exp.Schema):
        table = str(tree.this.this.name)
        info = found.tables.setdefault(table.lower(), TableInfo(table))
        info.indexes |= {
            name: tuple(re.findall(r"[\w$]+", _LENGTH.sub("", columns)))
            for name, columns in _KEYS.findall(sql)
        }
        for part in tree.this.expressions:
            _take(part, info, dialect)
        return table.lower()
    if isinstance(tree, exp.Create) and tree.kind == "INDEX":
        on = tree.find(exp.Table)
        if on is not None and tree.args.get("unique") and on.name.lower() in found.tables:
            columns = tuple(c.name for c in tree.find_all(exp.Column))
            found.tables[on.name.lower()].unique.append(columns)
        return str(on.name).lower() if on is not None else ""
    if isinstance(tree, exp.Alter) and tree.args.get("kind") != "INDEX":
        table = str(tree.this.name)
        known = found.tables.get(table.lower())
        if known is not None:
            for part in tree.find_all(exp.PrimaryKey, exp.ForeignKey, exp.UniqueColumnConstraint):
                _take(part, known, dialect)
            altered = re.match(
                r"(?is)alter\s+table\s+(?:only\s+)?\S+\s+alter\s+(?:column\s+)?[\"`]?(\w+)[\"`]?\s+(?:set\s+default|add\s+generated)",
                sql,
            )
            if altered and altered[1] in known.columns:
                known.columns[altered[1]].made = True
        return table.lower()
    return _by_text(sql, found)


def _by_text(sql: str, found: Schema) -> str:
    """The table that a statement is about which the parser does not know: it numbers a column,
    attaches a partition, or a partition's index to that of the whole; or it makes a trigger.
    """
    if numbered := _IDENTITY_ADDED.match(sql):
        table, column, how = _bare(numbered[1]), _bare(numbered[2]), numbered[3]
        known = found.tables.get(table)
        if known is not None and column in known.columns:
            known.columns[column].made = True
            known.columns[column].always = how.lower() == "always"
        return table
    if attached := _ATTACHED.match(sql):
        return _bare(attached[1])
    if attached := _INDEX_ATTACHED.match(sql):
        index = rf"\b{re.escape(_bare(attached[1]))}\b"
        return next((of for of, text in found.statements if of and re.search(index, text)), "")
    return _of_trigger(sql)


def _parsed(sql: str, dialect: str) -> Any:
    """A statement's tree; of a table that is written in ways that the parser does not know
    (partitions, options of the server) that of its columns and keys.
    """
    texts = [sql]
    if (
        re.match(r"(?i)create\s+(?:\w+\s+){0,2}?table\b", sql)
        and (end := _end_of_columns(sql)) is not None
    ):
        texts.append(sql[:end])
    for text in texts:
        try:
            tree = sqlglot.parse_one(text, dialect=dialect)
        except (SqlglotError, RecursionError):
            continue
        if not isinstance(tree, exp.Command):
            return tree
    return None


def _end_of_columns(sql: str) -> int | None:
    """Behind the bracket that closes the first one; quotes count as what they are."""
    depth = 0
    for found in re.finditer(r"'(?:[^'\\]|''|\\.)*'|`[^`]*`|\"[^\"]*\"|[()]", sql, re.DOTALL):
        depth += {"(": 1, ")": -1}.get(found[0], 0)
        if found[0] == ")" and depth == 0:
            return found.end()
    return None


#: Keys within MySQL's and MariaDB's CREATE TABLE, and the lengths of their parts.
_KEYS = re.compile(r"(?i)\bkey\s+[`\"]?(\w+)[`\"]?\s*\(([^()]*(?:\([^()]*\)[^()]*)*)\)")
_LENGTH = re.compile(r"\(\d+\)|\b(?:asc|desc)\b", re.IGNORECASE)


def _of_trigger(sql: str) -> str:
    """The table that a trigger is on; '' where the statement makes none."""
    if not re.match(r"(?i)create\s+(?:\S+\s+){0,2}?trigger", sql):
        return ""
    found = re.search(r"(?i)\bon\s+(?:only\s+)?[\"`]?(\w+)", sql)
    return found[1].lower() if found else ""


def _take(part: exp.Expression, info: TableInfo, dialect: str) -> None:
    if isinstance(part, exp.ColumnDef):
        kinds = [constraint.kind for constraint in part.constraints]
        made = any(
            isinstance(
                k,
                exp.DefaultColumnConstraint
                | exp.AutoIncrementColumnConstraint
                | exp.GeneratedAsIdentityColumnConstraint
                | exp.ComputedColumnConstraint,
            )
            for k in kinds
        )
        written = part.kind.sql(dialect=dialect) if part.kind is not None else ""
        made = made or "serial" in written.lower()
        needed = any(
            isinstance(k, exp.NotNullColumnConstraint) and not k.args.get("allow_null")
            for k in kinds
        )
        computed = any(isinstance(k, exp.ComputedColumnConstraint) for k in kinds)
        always = any(
            isinstance(k, exp.GeneratedAsIdentityColumnConstraint) and k.this for k in kinds
        )
        info.columns[part.name] = Column(
            part.name, written.lower(), needed, made, computed, always=always
        )
        for kind in kinds:
            if isinstance(kind, exp.PrimaryKeyColumnConstraint):
                info.primary = (part.name,)
            elif isinstance(kind, exp.UniqueColumnConstraint):
                info.unique.append((part.name,))
            elif isinstance(kind, exp.Reference):
                info.references.append(_reference((part.name,), kind))
        return
    if isinstance(part, exp.Constraint):
        for inner in part.expressions:
            _take(inner, info, dialect)
        return
    names = tuple(_name(one) for one in part.expressions)
    if isinstance(part, exp.PrimaryKey):
        info.primary = names
    elif isinstance(part, exp.ForeignKey):
        reference = part.args.get("reference")
        if reference is not None:
            info.references.append(_reference(names, reference))
    elif isinstance(part, exp.UniqueColumnConstraint):
        inner_names = (
            tuple(_name(one) for one in part.this.expressions) if part.this is not None else names
        )
        info.unique.append(inner_names)


def _name(one: exp.Expression) -> str:
    inner = one.this if isinstance(one, exp.Ordered) else one
    return str(inner.name)


def _reference(
    columns: tuple[str, ...], reference: exp.Expression
) -> tuple[tuple[str, ...], str, tuple[str, ...]]:
    target = reference.this
    table = target.find(exp.Table)
    named = (
        tuple(_name(one) for one in target.expressions) if isinstance(target, exp.Schema) else ()
    )
    return columns, table.name if table is not None else "", named


def closure(schema: Schema, wanted: Iterable[str]) -> set[str]:
    """The tables that are needed for some: what they refer to, their partitions or what they are
    partitions of, and what the code of their triggers names.
    """
    found: set[str] = set()
    left = [name.lower() for name in wanted]
    bodies = dict(_functions(schema))
    while left:
        name = left.pop()
        info = schema.tables.get(name)
        if info is None or name in found:
            continue
        found.add(name)
        left += [parent.lower() for _, parent, _ in info.references]
        for table, sql in schema.statements:
            if table == name and re.match(r"(?i)create\s+(?:\S+\s+)*?trigger", sql):
                code = sql + " ".join(body for function, body in bodies.items() if function in sql)
                left += [
                    other
                    for other in schema.tables
                    if re.search(rf"(?i)\b{re.escape(other)}\b", code)
                ]
            for pattern in (_PARTITION_OF, _ATTACHED, _INHERITS):
                for parts in pattern.findall(sql):
                    pair = {_bare(part) for part in (*parts, table) if part}
                    left += pair if name in pair else ()
    return found


#: A table that is a part of another (PostgreSQL documentation, 5.11 and 5.10).
_PARTITION_OF = re.compile(
    r"(?i)create\s+(?:unlogged\s+)?table\s+(?:if\s+not\s+exists\s+)?(\S+)\s+partition\s+of\s+(\S+)"
)
_ATTACHED = re.compile(r"(?i)alter\s+table\s+(?:only\s+)?(\S+)\s+attach\s+partition\s+(\S+)")
_IDENTITY_ADDED = re.compile(
    r"(?i)alter\s+table\s+(?:only\s+)?(\S+)\s+alter\s+(?:column\s+)?(\S+)\s+add\s+generated\s+"
    r"(always|by\s+default)\s+as\s+identity"
)
_INDEX_ATTACHED = re.compile(r"(?i)alter\s+index\s+(\S+)\s+attach\s+partition\s")
_INHERITS = re.compile(
    r"(?i)create\s+(?:unlogged\s+)?table\s+(?:if\s+not\s+exists\s+)?(\S+)[^;]*?\binherits\s*\(\s*([^\s,)]+)"
)


def _bare(name: str) -> str:
    return name.rpartition(".")[2].strip('"`;(').lower()


def _functions(schema: Schema) -> list[tuple[str, str]]:
    pattern = re.compile(r"(?i)create\s+(?:or\s+replace\s+)?(?:function|procedure)\s+[\"`]?(\w+)")
    return [(match[1], sql) for _, sql in schema.statements if (match := pattern.match(sql))]


#: What makes something that belongs to no table, and its name.
_MAKES = re.compile(
    r"(?is)(?:create\s+(?:or\s+replace\s+)?(?:materialized\s+view|view|function|procedure|sequence|type|domain)|"
    r"alter\s+sequence)\s+(?:if\s+not\s+exists\s+)?(?:[\"`]?\w+[\"`]?\.)?[\"`]?(\w+)"
)


def script_of(
    schema: Schema,
    tables: Collection[str],
    statements: Iterable[str] = (),
    rules: Rules | None = None,
) -> str:
    """The statements that make these tables, in the order of the file, but tables that others refer
    to come before those; and of what belongs to no table that which they, or ``statements``, name.
    ``rules``: of the server.
    """
    kept = [
        (table, sql.rstrip(";")) for table, sql in schema.statements if not table or table in tables
    ]
    of_none = [sql for table, sql in kept if not table]
    needed = _needed(of_none, [sql for table, sql in kept if table], statements)
    latest = {name: sql for sql in of_none if (name := _made(sql))}  # a view may have a stand-in
    kept = [
        (table, sql)
        for table, sql in kept
        if table or (sql in needed and latest.get(_made(sql)) == sql)
    ]
    before = rules.sql.before_definitions if rules is not None and needed else None
    lines = [*([before] if before else []), *_parents_first(schema, kept)]
    return "\n".join(f"{sql};" for sql in lines)


def _parents_first(schema: Schema, kept: Sequence[tuple[str, str]]) -> list[str]:
    """The statements, with those that make tables in the order of what refers to what."""
    makes = {
        table: sql
        for table, sql in kept
        if table in schema.tables and re.match(r"(?i)create\s+(?:unlogged\s+)?table\b", sql)
    }
    first = next((n for n, (table, sql) in enumerate(kept) if makes.get(table) == sql), len(kept))
    ordered = [makes[name] for name in parents_first(schema.tables) if name in makes]
    rest = [sql for table, sql in kept[first:] if makes.get(table) != sql]
    return [*(sql for _, sql in kept[:first]), *ordered, *rest]


def _made(sql: str) -> str:
    found = _MAKES.match(sql)
    return f"{found[0].lower().split()[0]} {found[1].lower()}" if found else sql


def _needed(loose: Sequence[str], of_tables: Sequence[str], statements: Iterable[str]) -> set[str]:
    """What of the statements that belong to no table the others name, and what those name in
    turn.
    """
    names = {sql: found[1].lower() for sql in loose if (found := _MAKES.match(sql))}
    text = "\n".join([*of_tables, *statements]).lower()
    needed: set[str] = set()
    while True:
        fresh = {
            sql
            for sql, name in names.items()
            if sql not in needed and re.search(rf"\b{re.escape(name)}\b", text)
        }
        if not fresh:
            return needed
        needed |= fresh
        text = "\n".join(fresh).lower()


def parents_first(tables: Mapping[str, TableInfo]) -> list[str]:
    """The names of tables, those that others refer to first."""
    found: dict[str, None] = {}
    under_way: set[str] = set()

    def visit(name: str) -> None:
        if name in found or name in under_way or name not in tables:
            return
        under_way.add(name)
        for _, parent, _ in tables[name].references:
            visit(parent.lower())
        found[name] = None

    for name in tables:
        visit(name)
    return list(found)


def inferred(
    named: Mapping[str, Mapping[str, bool]],
    keys: Mapping[str, Sequence[str]],
    references: Iterable[tuple[str, str, str, str]] = (),
) -> Schema:
    """Tables made up from what statements name: by table, the columns, and whether their values are
    texts.

    ``references``: a table and its column, the table that is referred to and its key.
    """
    schema = Schema()
    for table, columns in named.items():
        key = [column for column in keys.get(table, ()) if column in columns] or list(columns)[:1]
        parts = [
            f"{column} {'varchar(200)' if text else 'bigint'}"
            + (" not null" if column in key else "" if text else " default 0")
            for column, text in columns.items()
        ]
        parts += [f"primary key ({', '.join(key)})"] if key else []
        own = [one[1:] for one in references if one[0] == table]
        parts += [
            f"foreign key ({column}) references {parent} ({name})" for column, parent, name in own
        ]
        sql = f"create table {table} ({', '.join(parts)})"
        info = TableInfo(table, primary=tuple(key))
        info.references = [((column,), parent, (name,)) for column, parent, name in own]
        info.columns = {
            column: Column(column, "varchar(200)" if text else "bigint", column in key)
            for column, text in columns.items()
        }
        schema.tables[table.lower()] = info
        schema.statements.append((table.lower(), sql))
    return schema
