"""Loads modules out of the one file once.

zipimport asks itself for the name of a module's file, and reads, unpacks and loads the whole module to know it; then it
does all of that again for the module itself (zipimport.py, Python 3.11)."""

import os
import sys
from importlib.machinery import ModuleSpec
from types import ModuleType
from zipimport import ZipImportError, zipimporter


class LoadsOnce(zipimporter):
    """Finds modules by the directory of an archive alone."""

    def find_spec(self, fullname: str, target: ModuleType | None = None) -> ModuleSpec | None:
        """Return what a module is loaded by: its file has the name that a module of this archive always has."""
        try:
            is_package = self.is_package(fullname)
        except ZipImportError:
            return super().find_spec(fullname, target)
        place = os.path.join(self.archive, self.prefix, fullname.rpartition(".")[2])
        file = os.path.join(place, "__init__.py") if is_package else f"{place}.py"
        spec = ModuleSpec(fullname, self, origin=file)  # type: ignore[arg-type]  # it is a loader, by what it does
        spec.submodule_search_locations = [place] if is_package else None
        spec.has_location = True
        return spec


def load_once(archive: str) -> None:
    """Load what is not loaded yet of an archive in this way."""
    sys.path_hooks.insert(0, LoadsOnce)
    for place in [place for place in sys.path_importer_cache if place.startswith(archive)]:
        del sys.path_importer_cache[place]
