"""What a check of budgets found, in forms that others read. One file a form."""

from wendascope.report.checks._registry import CheckForm, check_form, check_forms

__all__ = ["CheckForm", "check_form", "check_forms"]
