"""Forms of a report. Each file here writes one form and registers itself with `form`."""

from wendascope.report.formats._registry import export, form, forms

__all__ = ["export", "form", "forms"]
