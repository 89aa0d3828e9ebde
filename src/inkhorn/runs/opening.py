"""Opening a run again: its site and model, and the same results as when it was made, read when they are asked for."""

from __future__ import annotations

import warnings
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkhorn.errors import InkhornWarning, InputError, did_you_mean
from inkhorn.files.reading import reading_as
from inkhorn.runs.folder import RunFolder
from inkhorn.runs.run_files import FILES

if TYPE_CHECKING:  # loaded when it is used: a folder is opened at once
    import numpy as np
    import pandas as pd
    from numpy.typing import NDArray

    from inkhorn.calibration import FitResult
    from inkhorn.cuts import Agreement, Cut
    from inkhorn.ensemble import Ensemble
    from inkhorn.flow import FlowResult
    from inkhorn.model import Model
    from inkhorn.paths import PathResult
    from inkhorn.project import Project
    from inkhorn.runs.levels import LevelResult
    from inkhorn.runs.product import Product
    from inkhorn.site import Site
    from inkhorn.transport import TransportResult

__all__ = ["Run", "open_run"]


class Run:
    """A run that was made, as `open_run` gives it; everything is read when it is first asked for.

    Attributes
    ----------
    path : Path
        The folder.
    about : dict
        What was run: kind, project, variant, grid, cells, steps, state, version.
    """

    def __init__(self, path: Path | str) -> None:
        self._folder = RunFolder.opened(Path(path))
        self.path, self.about = self._folder.path, self._folder.about

    def __repr__(self) -> str:
        about = self.about
        variant = f", variant {about['variant']}" if about.get("variant") else ""
        return (
            f"Run({about.get('kind')} of {about.get('project')}{variant}, grid {about.get('grid')}: "
            f"{about.get('cells', '?')} cells, {about.get('state')}; {', '.join(self._folder.done) or 'nothing done'})"
        )

    def _repr_html_(self) -> str:
        from inkhorn.draw import heads
        from inkhorn.draw.notebook import page

        if "flow" not in self._folder.done:
            return page(self)
        flow = self.flow
        return page(self, [flow.budget()], lambda ax: heads(flow, ax=ax))

    def has(self, key: str) -> bool:
        """Whether the run made one of the files of `inkhorn.runs.folder.FILES`."""
        return self._folder.file(key).exists()

    def table(self, key: str) -> pd.DataFrame:
        """Return a table as it was written, in the units that its columns name, such as ``"budget"`` or ``"levels"``.

        Raises
        ------
        InputError
            If the run made no such table.
        """
        import pandas as pd

        tables = [k for k, file in FILES.items() if file.name.endswith(".csv")]
        if key not in tables:
            raise InputError(
                f'there is no table "{key}"; expected one of {tables}.{did_you_mean(key, tables)}'
            )
        path = self._folder.there(key)
        with reading_as(path, "a table of a run"):
            return pd.read_csv(path)

    @cached_property
    def project(self) -> Project:
        """The project as it was read, from the inputs that the run kept."""
        from inkhorn.project import read_project

        return read_project(self._folder.file("inputs") / self.about["file"])

    @property
    def site(self) -> Site:
        """The site."""
        return self.project.site

    @cached_property
    def _placed(self) -> Model:
        from inkhorn.runs.local import placed

        return placed(self.project)

    @property
    def model(self) -> Model:
        """The model that was solved; of a fit that with the fitted values."""
        return self.fit.after.model if self.about.get("kind") == "fit" else self._placed

    @cached_property
    def flow(self) -> FlowResult:
        """The flow, its records read one by one.

        Warns
        -----
        InkhornWarning
            If the model that is made of the inputs now is not to the bit that of the run, as with another version.
        """
        if self.about.get("kind") == "fit":
            return self.fit.after
        if self.about.get("kind") == "vary":
            raise InputError(f'"{self.path}" is of many runs, whose flows are not kept. See `ensemble`.')
        from inkhorn.runs.flow import read_flow

        flow = read_flow(self._placed, self._folder)
        differs = flow.steps.differs  # type: ignore[attr-defined]  # of a file
        if differs:
            warnings.warn(
                f'the inputs of "{self.path}" make another model now than when it was run (version '
                f"{self.about.get('inkhorn')}); what differs: {'; '.join(differs)}. Heads and flows are as they were; "
                "what follows from them is by this version.",
                InkhornWarning,
                stacklevel=2,
            )
        return flow

    def last_heads(self) -> NDArray[np.float64]:
        """Return the heads at the end of the run, (n_cells,) [m]; of one that kept no flows, too."""
        from inkhorn.files import read_last_heads

        return read_last_heads(self._folder.there("heads"), self.model.grid)

    @cached_property
    def fit(self) -> FitResult:
        """The fit, of a folder of `inkhorn fit`."""
        if self.about.get("kind") != "fit":
            raise InputError(f'"{self.path}" is of a run, not of a fit. See `flow`.')
        from inkhorn.runs.fit import FitProduct
        from inkhorn.runs.fit_set_up import fit_named
        from inkhorn.runs.journal import Journal
        from inkhorn.runs.product import Work

        plan = fit_named(self.project, str(self.about.get("of", "")) if len(self.project.fits) > 1 else None)
        work = Work(self.project, self._placed, None, self._folder, Journal())  # type: ignore[arg-type]  # flow comes of it
        return FitProduct().read(work, plan)

    @cached_property
    def ensemble(self) -> Ensemble:
        """Many runs, of a folder of `inkhorn vary`.

        Raises
        ------
        InputError
            If it is of something else.
        """
        if self.about.get("kind") != "vary":
            raise InputError(f'"{self.path}" is of `inkhorn {self.about.get("kind")}`, not of many runs.')
        from inkhorn.runs.vary import read_ensemble
        from inkhorn.runs.vary_set_up import VarySetUp, vary_named

        several = len(self.project.varies) > 1
        plan = vary_named(self.project, str(self.about.get("of", "")) if several else None)
        levels = bool(self.about.get("levels", False))
        made = VarySetUp(self.project, plan, self._placed, fit_levels=levels)
        return read_ensemble(made, self._folder)

    @cached_property
    def levels(self) -> LevelResult:
        """Measured and computed levels."""
        from inkhorn.runs.levels import LevelsProduct

        return self._read(LevelsProduct(), None)

    def paths(self, name: str = "") -> PathResult:
        """Return particle paths, of several by name."""
        from inkhorn.runs.paths import PathsProduct

        return self._of(PathsProduct(), name)

    def transport(self, name: str = "", species: str | None = None) -> TransportResult:
        """Return a plume: of several requests by name, and of several species carried together by theirs.

        Raises
        ------
        InputError
            If there is none such.
        """
        made = self.plumes(name)
        wanted = next(iter(made)) if species is None else species
        if wanted not in made:
            known = list(made)
            raise InputError(f'"{self.path}" has no {wanted}; it has {known}.{did_you_mean(wanted, known)}')
        return made[wanted]

    def plumes(self, name: str = "") -> dict[str, TransportResult]:
        """Return the plumes of all species that were carried together; of several requests by name."""
        from inkhorn.runs.plume import PlumeProduct

        found: dict[str, TransportResult] = self._of(PlumeProduct(), name)
        return found

    @cached_property
    def cut(self) -> Cut:
        """How a local model was cut out of its region, whose run has to be where it was.

        Raises
        ------
        InputError
            If the run is of no local model.
        """
        from inkhorn.runs.local import cut_again

        if self.project.cut_from is None:
            raise InputError(f'"{self.path}" is of no local model: its project has no [cut_from].')
        return cut_again(self.project, self.flow.model)

    @property
    def agreement(self) -> Agreement:
        """How a local model and its region agree at the end."""
        return self.cut.agreement(self.flow)

    def _of(self, product: Product[Any], name: str) -> Any:
        asked = {a.name: a for a in product.requests(self.project, self._placed)}
        if name not in asked:
            known = list(asked)
            raise InputError(
                f'"{self.path}" has no {product.what} "{name}"; it has {known}.{did_you_mean(name, known)}'
            )
        return self._read(product, asked[name])

    def _read(self, product: Product[Any], asked: Any) -> Any:
        from inkhorn.runs.journal import Journal
        from inkhorn.runs.product import Work, key_of

        key = key_of(product, asked)
        if key not in self._folder.done:
            raise InputError(f'"{self.path}" has no {key}; it has {list(self._folder.done)}.')
        return product.read(Work(self.project, self.model, self.flow, self._folder, Journal()), asked)


def open_run(path: Path | str) -> Run:
    """Open the folder of a run: its site, model and results, each read when it is first asked for.

    Parameters
    ----------
    path : Path or str
        The folder, of a run that ended or was stopped.

    Returns
    -------
    Run

    Raises
    ------
    InputError
        If it is no run folder, or of a later format.
    """
    return Run(path)
