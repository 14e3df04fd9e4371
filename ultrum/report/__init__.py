"""Results as figures, tables, files, and the HTML report."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach(__name__, ["figures"])
