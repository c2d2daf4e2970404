"""HTML to PDF: one small interface, an adapter for each engine."""

from __future__ import annotations

import importlib.util
from importlib.metadata import version
from typing import TYPE_CHECKING, Protocol

from wexagraph.errors import CallError
from wexagraph.pages import fonts
from wexagraph.pages.options import PageOptions

if TYPE_CHECKING:
    from wexagraph.pages.composing.compose import Page


class Engine(Protocol):
    """An adapter to an engine that sets HTML as PDF. Nothing is fetched; pictures come from `page.resources`."""

    name: str

    def render(self, page: Page, options: PageOptions) -> bytes:
        """The page as the bytes of a PDF. Raises PageError where the engine can't make one."""


_MODULES = {"plutoprint": "plutoprint", "weasyprint": "weasyprint"}


def available(wanted: str = "auto") -> list[str]:
    """The names of the engines to try, in order. Raises CallError where none, or not the wanted one, is installed."""
    installed = [name for name, module in _MODULES.items() if importlib.util.find_spec(module) is not None]
    if wanted == "auto":
        if not installed:
            raise CallError(
                "no page engine is installed. Run: pip install plutoprint, or pip install 'wexagraph[weasyprint]'."
            )
        return installed
    if wanted not in installed:
        extra = "'wexagraph[weasyprint]'" if wanted == "weasyprint" else wanted
        raise CallError(f"the page engine {wanted} is not installed. Run: pip install {extra}.")
    return [wanted]


def page_parts() -> str:
    """The parts that make and read pages here, with their versions: the engines, qpdf, pdfium."""
    import pikepdf
    from pypdfium2.version import PDFIUM_INFO, PYPDFIUM_INFO

    engines = [f"{name} {version(name)}" for name, module in _MODULES.items() if importlib.util.find_spec(module)]
    qpdf = f"qpdf {pikepdf.__libqpdf_version__} (pikepdf {version('pikepdf')})"
    return ", ".join([*engines, qpdf, f"pdfium {PDFIUM_INFO.build} (pypdfium2 {PYPDFIUM_INFO.version})"])


def engine(name: str) -> Engine:
    """The adapter of that name, its engine loaded."""
    fonts.provide()
    if name == "plutoprint":
        from wexagraph.pages.engines.pluto import PlutoPrint

        return PlutoPrint()
    from wexagraph.pages.engines.weasy import WeasyPrint

    return WeasyPrint()
