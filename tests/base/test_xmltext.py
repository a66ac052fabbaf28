"""Text inside XML is what Python's own library makes of it, and reads back as it was."""

from xml.etree.ElementTree import fromstring
from xml.sax import saxutils

from hypothesis import given
from hypothesis import strategies as st

from vastgrid.base.xmltext import escape, quoteattr

# What XML 1.0 can hold at all (section 2.2): no control characters but three, no halves of pairs.
TEXTS = st.text(
    st.characters(exclude_categories=("Cs", "Cc"), include_characters="\t\n\r") | st.sampled_from("<>&\"'\t\n\r")
)


@given(TEXTS)
def test_it_is_what_the_standard_library_makes(text):
    assert escape(text) == saxutils.escape(text)
    assert quoteattr(text) == saxutils.quoteattr(text)


@given(TEXTS)
def test_it_reads_back_as_it_was(text):
    if any(ord(char) in (0xFFFE, 0xFFFF) or ord(char) & 0xFFFE == 0xFFFE for char in text):
        return
    assert fromstring(f"<a b={quoteattr(text)}/>").get("b") == text
    # A carriage return between tags is a line end (section 2.11); only in an attribute it is written as a number.
    inner = fromstring(f"<a>{escape(text)}</a>").text or ""
    assert inner == text.replace("\r\n", "\n").replace("\r", "\n")
