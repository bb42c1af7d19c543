"""The tests. A machine may stand still while a case runs, so hypothesis puts no deadline on one: figures are `make
bench`'s subject."""

from hypothesis import settings

settings.register_profile("kanaleto", deadline=None)
settings.load_profile("kanaleto")
