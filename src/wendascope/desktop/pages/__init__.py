"""Pages of the question rail. Each file here is one page and registers itself with `page`."""

from wendascope.desktop.pages._registry import Page, page, pages

__all__ = ["Page", "page", "pages"]
