"""What a run makes: its folder, its products one by one, opening it again, comparing several."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
