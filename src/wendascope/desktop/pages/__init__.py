"""Pages of the question rail. Each file here is one page and registers itself with `page`."""

from wendascope.desktop.pages._registry import UNKNOWN, Page, page, pages

__all__ = ["UNKNOWN", "Page", "page", "pages"]
