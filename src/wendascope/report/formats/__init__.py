"""Forms of a report. Each file here writes one form and registers itself with `form`."""

from wendascope.report.formats._registry import Form, export, form, form_named, forms

__all__ = ["Form", "export", "form", "form_named", "forms"]
