"""Pages of the question rail. Each file here is one page and registers itself with `page`."""

from wendascope.desktop.pages._registry import UNKNOWN, Page, page, page_modules, pages

__all__ = ["UNKNOWN", "Page", "page", "page_modules", "pages"]
