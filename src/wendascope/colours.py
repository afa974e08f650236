"""Colours that reports and the window share. Each pass colour also has a number or a name beside it wherever it is
used.
"""

PAPER, INK, DUSK, SURROUND, COPPER = "#F4F1EA", "#22303C", "#23262B", "#767676", "#A8562A"
COPPER_ON_DUSK = "#E0905F"

PASS_COLOURS = (
    "#7C93A6", "#A89A6A", "#8A7A9C", "#7F9E86", "#B08A84", "#6F8F98", "#9B8F80", "#93A3C0", "#A3A86F", "#A5829A",
)  # fmt: skip
"""Ten muted hues of like lightness, for passes in their order."""

RELIEF = ("#F3E7C9", "#CFC08A", "#93B99B", "#5A9AA0", "#2F6C90", "#233F70", "#1B1E46")
"""An ordered ramp from sand to sea, from little to much."""
