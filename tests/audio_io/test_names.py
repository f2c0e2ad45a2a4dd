"""Names of files that come from elsewhere: what is not seen goes, and no folder stays."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.core.registry.names import check_name, check_title, file_name, plain_name


@pytest.mark.parametrize(
    ("given_name", "kept"),
    [
        ("bell.wav", "bell.wav"), ("../../etc/passwd", "passwd"), ("a\u202egpj.wav", "agpj.wav"),
        ("a\tb\nc.wav", "a b c.wav"), ("Größe ü.wav", "Größe ü.wav"), ("\x00", "file"), ("", "file"),
        ("folder/", "file"), ("=1+1.wav", "=1+1.wav"), ("مرحبا.wav", "مرحبا.wav"),
    ],
)  # fmt: skip
def test_the_name_of_a_file_keeps_what_is_seen_of_its_last_part(given_name: str, kept: str) -> None:
    assert file_name(given_name) == kept


@given(st.text())
def test_what_is_made_plain_is_taken_as_it_is(text: str) -> None:
    assert check_name(plain_name(text)) == plain_name(text)
    assert check_name(file_name(text)) == file_name(text)


def test_a_slash_may_stand_in_a_title_and_in_no_name() -> None:
    assert check_title("soft / hard") == "soft / hard"
    with pytest.raises(ValueError, match="no slash"):
        check_name("soft / hard")
    with pytest.raises(ValueError, match="direction"):
        check_title("a\u202eb")
