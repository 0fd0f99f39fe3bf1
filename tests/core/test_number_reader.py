"""Numbers as people write them: what is read, what is refused, and that nothing ambiguous is taken in silence.

Common practice of spreadsheets and ledgers (separators of thousands and decimals as in the Unicode locale data, brackets for
negative amounts in bookkeeping).
"""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wise_tally.core.number_reader import NotANumber, NumberStyle, read_number, whole_number

POINT, COMMA = NumberStyle("."), NumberStyle(",")


@pytest.mark.parametrize(
    ("text", "value", "unit"),
    [
        ("12,500.00", "12500", ""), ("12 500,00", "12500", ""), ("12.500,00", "12500", ""), ("12\u202f500", "12500", ""),
        ("12'500.5", "12500.5", ""), ("€12,500", "12500", "€"), ("12500 EUR", "12500", "EUR"), ("EUR 12.5k", "12500", "EUR"),
        ("12.5k", "12500", ""), ("1.2m", "1200000", ""), ("1.24\u00a0m", "1240000", ""), ("3m €", "3000000", "€"),
        ("5 MXN", "5", "MXN"), ("35 %", "35", "%"), ("+5%", "5", "%"), ("(1,200)", "-1200", ""), ("\u22121 250.50", "-1250.5", ""),
        ("-€40", "-40", "€"), ("€-40", "-40", "€"), ("1,250,000", "1250000", ""), ("1.250.000", "1250000", ""),
        ("0,125", "0.125", ""), ("1250,500", "1250.5", ""), ("12,5", "12.5", ""), (".5", "0.5", ""), ("007", "7", ""),
    ],
)  # fmt: skip
def test_numbers_are_read_as_they_are_meant_whatever_the_style(text, value, unit):
    for style in (POINT, COMMA):
        found = read_number(text, style)
        assert (found.value, found.unit) == (Decimal(value), unit)
        assert found.is_ambiguous == (text in ("€12,500", "(1,200)")), "one sign before three digits could be either"
        if found.is_ambiguous:
            break


def test_a_whole_number_is_digits_alone_and_within_its_bound():
    assert [whole_number(text, 999) for text in ("0", "007", "999")] == [0, 7, 999]
    assert not any(
        whole_number(text, 999) for text in ("", "1000", "00001000", "-1", "1.0", " 1", "²", "١", "9" * 5_000)
    )


def test_what_could_be_either_is_read_by_the_style_and_says_so():
    read = {(text, style.decimal): read_number(text, style) for text in ("1,250", "1.250") for style in (POINT, COMMA)}
    assert {key: found.value for key, found in read.items()} == {
        ("1,250", "."): 1250, ("1.250", "."): Decimal("1.25"), ("1,250", ","): Decimal("1.25"), ("1.250", ","): 1250,
    }  # fmt: skip
    assert all(found.is_ambiguous for found in read.values())


@pytest.mark.parametrize(
    "text",
    ["", "–", "abc", "1,2,3", "12 50", "1,25,000", "1.2.3", "1 250 0", "1,250,00.5", "--5", "(-5)", "€5 EUR", "5e3", "١٢",
     "1..5", "5.", "1,250.", "1 250,000 0", "0x10", "12%5", "inf", "1/2"],
)  # fmt: skip
def test_what_is_no_number_is_refused(text):
    for style in (POINT, COMMA):
        with pytest.raises(NotANumber):
            read_number(text, style)


@pytest.mark.parametrize(
    ("style", "good", "bad"),
    [
        (
            NumberStyle(".", ","),
            {"1,250.00": "1250", "1,250": "1250", "1.25": "1.25"},
            ["1.250,00", "1 250.00", "1,25"],
        ),
        (
            NumberStyle(",", "."),
            {"1.250,00": "1250", "1.250": "1250", "1,25": "1.25"},
            ["1,250.00", "1 250,00", "1.25"],
        ),
        (NumberStyle(".", " "), {"1 250.00": "1250", "1250.5": "1250.5"}, ["1,250.00", "1.250,00", "1,25"]),
    ],
)
def test_a_column_of_one_form_takes_nothing_of_another(style, good, bad):
    assert {text: read_number(text, style).value for text in good} == {
        text: Decimal(value) for text, value in good.items()
    }
    for text in bad:
        with pytest.raises(NotANumber):
            read_number(text, style)


@given(
    st.integers(0, 10**12),
    st.integers(0, 3),
    st.sampled_from([",.", ".,", " .", " ,", "' ."]),
    st.sampled_from([POINT, COMMA]),
)
def test_a_number_written_in_any_style_is_never_read_as_another_in_silence(units, decimals, signs, style):
    value = Decimal(units).scaleb(-decimals)
    whole, _, fraction = f"{value:f}".partition(".")
    text = f"{int(whole):,}".replace(",", signs[0]) + (signs[-1] + fraction if fraction else "")
    found = read_number(text, style)
    assert found.value == value or found.is_ambiguous
