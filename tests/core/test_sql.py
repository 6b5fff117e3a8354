"""Reading SELECTs just far enough, and the words that databases have for types, codes and defaults."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.kinds.objects.drafting import readable
from bricola.core.problems import ProblemError
from bricola.core.sql.tables import OPEN_ZONE
from bricola.core.sql.text import numbered, read_sql
from bricola.core.sql.types import checked_codes, column_type, literal

_TEXT = st.text(alphabet=st.characters(exclude_categories=("Cs",), exclude_characters="'\"\0"), max_size=12)
_PIECES = st.lists(st.one_of(
    st.just("x "), st.just(":day "), st.just("::date "), st.builds("'{}' ".format, _TEXT), st.builds('"{}" '.format, _TEXT),
    st.builds("'{}''{}' ".format, _TEXT, _TEXT), st.just("(1) ")), max_size=8)


@given(_PIECES)
def test_what_is_quoted_is_never_taken_for_a_prompt(pieces: list[str]) -> None:
    text = ("SELECT " + "".join(pieces)).strip()
    found = read_sql(text, "query")
    assert "".join(f":{one.text}" if one.is_prompt else one.text for one in found) == text
    assert sum(one.is_prompt for one in found) == pieces.count(":day ")


@given(_PIECES, st.integers(0, 5))
def test_parameters_are_numbered_outside_of_quotes(pieces: list[str], count: int) -> None:
    text = "".join(pieces) + "? " * count
    assert numbered(text, "$") == "".join(pieces) + "".join(f"${one + 1} " for one in range(count))
    assert numbered(text, "%s").count("%s") - text.replace("%", "%%").count("%s") == count


@given(st.text(max_size=60))
def test_any_text_is_read_or_refused_with_its_place(text: str) -> None:
    try:
        read_sql(text, "query tonnage, select")
    except ProblemError as error:
        assert all(one.code == "query.sql" and one.place == "query tonnage, select" for one in error.problems)


@pytest.mark.parametrize("text", ["SELECT 1; DROP TABLE a", "DELETE FROM a", "SELECT ?", "SELECT 'a", "SELECT (1", "SELECT a FROM b ORDER BY a",
                                  "WITH a AS (SELECT 1) SELECT * FROM a LIMIT 3", "SELECT a INTO b FROM c", "SELECT /* a"])
def test_what_is_no_single_plain_select_is_refused(text: str) -> None:
    with pytest.raises(ProblemError):
        read_sql(text, "query")


def test_a_comment_cannot_hide_anything() -> None:
    assert "".join(one.text for one in read_sql("SELECT a -- :x ?\n, b /* ; */ FROM c", "query")) == "SELECT a  \n, b   FROM c"
    assert read_sql("SELECT (SELECT a FROM b ORDER BY a LIMIT 1)", "query")  # inside brackets it is the query's own business


@pytest.mark.parametrize(("declared", "base", "facets"), [
    ("character varying(60)", "string", {"max_length": 60}), ("VARCHAR(60)", "string", {"max_length": 60}), ("numeric(9,2)", "decimal", {"digits": 9, "fraction": 2}),
    ("DECIMAL(6)", "decimal", {"digits": 6, "fraction": 0}), ("numeric", "decimal", {}), ("int(10) unsigned", "unsignedInt", {}), ("tinyint(1)", "boolean", {}),
    ("tinyint(4)", "short", {}), ("bigint(20) unsigned", "nonNegativeInteger", {}), ("timestamp without time zone", "dateTime", {}),
    ("timestamp(3) with time zone", "dateTime", {}), ("datetime(6)", "dateTime", {}), ("double precision", "double", {}), ("uuid", "string", {"length": 36}),
    ("enum('a','b')", "string", {}), ("longtext", "string", {}), ("bytea", "base64Binary", {}), ("geometry", "", {}), ("integer[]", "", {}), ("bit(8)", "", {}),
])
def test_declared_types_become_ours(declared: str, base: str, facets: dict[str, int]) -> None:
    found = column_type(declared)
    assert (found.base, found.facets) == (base, facets)
    # Which zone a moment without one is in, only its owner knows.
    assert found.zone == (OPEN_ZONE if base == "dateTime" and "with time" not in declared else "")


@pytest.mark.parametrize("clause", [
    "status IN ('open', 'it''s shut')", "`status` in ('open','it''s shut')",
    "CHECK (((status)::text = ANY ((ARRAY['open'::character varying, 'it''s shut'::character varying])::text[])))",
    "CHECK ((status = ANY (ARRAY['open'::text, 'it''s shut'::text])))",
])
def test_codes_are_read_as_every_engine_tells_them(clause: str) -> None:
    assert checked_codes(clause, "status") == ("open", "it's shut")
    assert checked_codes(clause, "state") == ()


def test_a_rule_that_is_more_than_a_list_gives_no_codes() -> None:
    assert checked_codes("status IN ('a', 'b') OR kind = 'c'", "status") == ()
    assert checked_codes("crest > 0", "crest") == ()


@pytest.mark.parametrize(("told", "value"), [("'open'::character varying", "open"), ("'it''s'", "it's"), ("(7)", "7"), ("-1.50", "-1.50"), ("true", "true"),
                                             ("now()", ""), ("nextval('x'::regclass)", ""), (None, ""), ("CURRENT_TIMESTAMP", "")])
def test_only_plain_literals_are_defaults(told: str | None, value: str) -> None:
    assert literal(told) == value


@pytest.mark.parametrize(("column", "name"), [("operator_number", "operatorNumber"), ("Yard No.", "yardNo"), ("GRÖSSE_M2", "groesseM2"), ("Größe (m²)", "groesseM2"), ("lengthM", "lengthM"),
                                              ("2nd_name", "n2NdName"), ("___", "column"), ("KUNDE", "kunde"), ("HTTPPort", "httpPort")])
def test_column_names_become_readable(column: str, name: str) -> None:
    assert readable(column) == name
