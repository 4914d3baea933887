"""Queries whose SQL is written once. Django builds and writes a query's SQL anew whenever it is
run, which takes several times as long as SQLite needs to answer; every page runs the same few."""

import copy
from collections.abc import Callable
from typing import Any, Generic, TypeVar

from django.db import connections
from django.db.models import QuerySet
from django.db.models.sql.compiler import SQLCompiler

R = TypeVar("R")  # a row: a model, or what `values` and the like give


class Prepared(Generic[R]):
    """A query with values that change from one run to the next.

    `build` gives the query of some values, whole numbers or texts, which may only be compared for
    being equal: it is called once, with stand-ins for them, for each database that is asked.

        latest_job = Prepared(lambda shot, kind: Job.objects.filter(shot=shot, kind=kind)[:1])
        latest_job(shot.pk, "render")
    """

    def __init__(self, build: Callable[..., QuerySet[Any, R]]) -> None:
        self.build = build
        self._written: dict[tuple, tuple[QuerySet, SQLCompiler, str, list]] = {}

    def __call__(self, *values: int | str) -> list[R]:
        """The rows, read anew; of `values_list` and the like what these give."""
        key = tuple(type(value) for value in values)
        if key not in self._written:
            self._written[key] = self._write(key)
        queryset, compiler, sql, places = self._written[key]
        parameters = tuple(
            values[place[0]] if isinstance(place, tuple) else place for place in places
        )
        # Not `copy`, which runs the query, nor a queryset's own way, which copies what isn't used.
        asked: Any = queryset.__class__.__new__(queryset.__class__)
        asked.__dict__ |= queryset.__dict__
        asked._query = _Written(compiler, sql, parameters)
        return list(asked._iterable_class(asked))

    def first(self, *values: int | str) -> R | None:
        """The first row; None where there is none."""
        return next(iter(self(*values)), None)

    def get(self, *values: int | str) -> R:
        """The first row. Raises the model's DoesNotExist where there is none."""
        found = self.first(*values)
        if found is None:
            raise self.build(*values).model.DoesNotExist(f"nothing with {values}")
        return found

    def _write(self, types: tuple) -> tuple[QuerySet, SQLCompiler, str, list]:
        """The query, what has written it, its SQL, and its parameters: those that are values of a
        run as (index,)."""
        # Stand-ins that no query has by itself.
        stand_ins: list[Any] = [
            -(7_310_000 + index) if issubclass(kind, int) else f"§stand-in {index}§"
            for index, kind in enumerate(types)
        ]
        queryset = self.build(*stand_ins)
        compiler = queryset.query.get_compiler(using=queryset.db)
        sql, parameters = compiler.as_sql()
        places = [
            (stand_ins.index(value),) if value in stand_ins else value for value in parameters
        ]
        missing = set(range(len(types))) - {place[0] for place in places if type(place) is tuple}
        if missing:
            raise ValueError(f"the query doesn't compare the value {min(missing)} as it is")
        return queryset, compiler, sql, places


class _Written:
    """In the place of a `Query`: one whose SQL is written already."""

    def __init__(self, compiler: SQLCompiler, sql: str, parameters: tuple) -> None:
        self.compiler, self.sql, self.parameters = compiler, sql, parameters

    def __getattr__(self, name: str) -> Any:
        return getattr(self.compiler.query, name)

    def get_compiler(self, using: str, **_: Any) -> SQLCompiler:
        compiler = copy.copy(self.compiler)
        compiler.connection = connections[using]
        compiler.as_sql = lambda *_, **__: (self.sql, self.parameters)  # type: ignore[method-assign]
        return compiler
