"""Results for people: figures, tables of text, files, and the report page."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach(__name__, ["figures"])
