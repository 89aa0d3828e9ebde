"""Every file of a run folder, by the part of a report that is about it."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

__all__ = ["FILES", "RunFile", "files_of"]


class RunFile(NamedTuple):
    """A file of a run.

    Attributes
    ----------
    name : str
        What it is called; {} is a layer or the name of a request.
    words : str
        What is in it.
    part : str
        The part of a report that it belongs to.
    """

    name: str
    words: str
    part: str


_PARTS: dict[str, dict[str, tuple[str, str]]] = {  # in the order of a report, which shows tables and pictures
    "The run": {
        "about": ("about.json", "what was run, with which format and version, and what is done"),
        "log": ("log.txt", "what was told while it ran"),
        "inputs": (
            "inputs",
            "every file as it was read; `inkhorn run RUN/inputs/site.toml` makes the run again",
        ),
    },
    "Where features landed": {
        "placed": ("placed.csv", "what landed where"),
    },
    "What was noticed": {
        "findings": ("findings.csv", "what was found before solving, and in the answer"),
    },
    "Periods": {
        "periods": ("periods.csv", "when periods begin and end, and what changes"),
    },
    "Levels in bores": {
        "residuals": ("residuals.csv", "measured and computed levels at bores, as means"),
        "levels": ("levels.csv", "the same by date"),
        "levels fit": ("fit.csv", "how well they are met"),
        "levels picture": ("levels.png", "levels in time, measured and computed"),
    },
    "Fit to what was measured": {
        "fit": ("fit.json", "parameters, every iteration, derivatives, to the last digit"),
        "before": ("before.nc", "the record of flow with the first values"),
        "iterate": ("iterate_{}.nc", "that with the values of an iteration, while the fit goes on"),
        "parameters": ("parameters.csv", "parameters with their fitted values and limits"),
        "fitted": ("fitted.toml", "the fitted values as a variant, for the folder `variants`"),
        "fit residuals": (
            "fit_residuals.csv",
            "every reading, computed before and after the fit, its weight",
        ),
        "left out": ("fit_left_out.csv", "readings that are left out, and why"),
        "statistics": ("statistics.csv", "how well groups of readings are met before the fit and after it"),
        "history": ("history.csv", "misfit and parameters, iteration by iteration"),
        "sensitivities": ("sensitivities.csv", "what readings tell of each parameter"),
        "readings": ("fit_readings.csv", "leverage of each reading, and what it tells most of"),
        "correlations": ("correlations.csv", "of the parameters, as far as they are told"),
        "singular values": ("singular_values.csv", "of the weighted sensitivities"),
        "unknown": ("unknown.csv", "combinations of parameters that readings do not fix"),
        "fit workbook": ("fit.xlsx", "the tables of the fit, a sheet each"),
        "fit arrays": ("fit.nc", "readings, residuals, sensitivities, covariance and history as arrays"),
        "fit picture": (
            "measured_against_computed.png",
            "measured values against computed ones, before and after",
        ),
        "residual map": ("residuals.png", "residuals of levels over the map, before and after"),
        "fit quality": ("residual_spread.png", "how residuals are spread, and whether as by a normal law"),
        "sensitivity picture": ("sensitivities.png", "which parameters matter, and what is fixed of them"),
        "forecasts": (
            "forecasts.csv",
            "what is forecast, and how sure it is before the readings and after them",
        ),
        "worth": (
            "worth_of_readings.csv",
            "how much less sure forecasts would be without each bore or measurement",
        ),
        "worth of new": (
            "worth_of_candidates.csv",
            "how much surer they would be with each that might be measured",
        ),
        "worth picture": ("worth{}.png", "where one more level would make a forecast surer"),
        "field picture": ("field{}.png", "a field before and after the fit, with its pilot points"),
    },
    "Heads": {
        "steps": ("flow.nc", "the records of flow: heads, flows of faces and terms, storage, step by step"),
        "heads": (
            "heads.nc",
            "heads and saturation in time, by layer, row and column, or by layer and polygon (UGRID)",
        ),
        "heads picture": ("heads_{}.png", "heads in a layer"),
        "section": ("section.png", "a section"),
    },
    "Water budget": {
        "budget": ("budget.csv", "the water budget, of a run through time that of its last step"),
        "budget by feature": ("budget_by_feature.csv", "the same by feature"),
        "budget by region": ("budget_by_region.csv", "the same by region, for those asked for"),
        "flow across": ("flow_across.csv", "what crosses the lines asked for, layer by layer"),
        "budget in time": ("budget_in_time.csv", "the water budget of every step"),
        "mean budget": ("budget_mean.csv", "the water budget as a mean over time"),
        "well levels": ("well_levels.csv", "levels in wells, what they take, and from which layer"),
    },
    "Particle paths": {
        "paths": ("paths{}.gpkg", "particle paths, and their points with times"),
        "trajectories": ("paths{}.nc", "the same as trajectories by the CF conventions"),
        "path ends": ("path_ends{}.csv", "where paths begin and end, and their travel times"),
        "path shares": ("path_shares{}.csv", "what share of the water came from where, or went where"),
        "path ages": ("path_ages{}.csv", "how old the water is, of paths followed backward"),
        "zones": ("zones{}.gpkg", "zones from which water gets to wells within some times"),
        "zones picture": ("zones{}.png", "the same over the map"),
        "ages picture": ("path_ages{}.png", "travel times, as a curve"),
        "paths picture": ("paths{}.png", "particle paths over the map"),
    },
    "What is dissolved": {
        "concentration": ("concentration{}.nc", "concentrations in time, and the mass of each feature"),
        "mass budget": ("mass_budget{}.csv", "the mass budget"),
        "mass in time": ("mass_in_time{}.csv", "the same between all times that are kept"),
        "mass across": ("mass_across{}.csv", "the mass that passed lines between them"),
        "above limit": (
            "above_limit{}.csv",
            "area, volume, mass and reach of what lies above the limit, in time",
        ),
        "arrivals": (
            "limit_passed{}.csv",
            "when the limit is passed and fallen below again, at wells and bores",
        ),
        "outlines": ("outlines{}.gpkg", "outlines of what lies above the limit, in time"),
        "plume picture": ("plume{}.png", "the plume"),
        "snapshots picture": ("plume_in_time{}.png", "the plume at four times"),
        "breakthrough": ("concentration_at_wells{}.csv", "concentrations at wells in time"),
        "breakthrough picture": ("concentration_at_wells{}.png", "the same, drawn"),
    },
    "Many runs": {
        "runs": (
            "runs.nc",
            "many runs: numbers that were drawn, what was watched, what maps were accumulated to",
        ),
        "runs statistics": (
            "statistics_of_runs.csv",
            "every statistic of what was watched, with its standard error",
        ),
        "every run": (
            "every_run.csv",
            "the numbers of every run, what it came to, and why it failed if it did",
        ),
        "failures": ("failed_runs.csv", "the runs that failed, and why"),
        "rank correlations": ("rank_correlations.csv", "how what was watched goes with what was varied"),
        "first order": (
            "first_order.csv",
            "mean and deviation of heads and flows by derivatives, beside those of the runs",
        ),
        "bands": (
            "bands{}.csv",
            "mean, deviation and quantiles in time, and the share of runs above the limit",
        ),
        "chance map": (
            "map_of_runs{}.nc",
            "mean, deviation, quantiles and chance of passing a limit, by plan cell",
        ),
        "runs workbook": ("runs.xlsx", "the tables of many runs, a sheet each"),
        "watched picture": ("watched{}.png", "how something watched is spread, and how its mean settled"),
        "bands picture": ("bands{}.png", "something watched in time, as runs have it"),
        "chance picture": ("map_of_runs{}.png", "a map of many runs"),
        "field check": ("field_check{}.png", "random fields against the variogram that was asked for"),
    },
    "Conduits and springs": {
        "conduits": ("conduits.gpkg", "pipes and nodes of conduits, for a GIS, at the last step"),
        "conduit pipes": ("conduits.csv", "what each pipe of the conduits carries, at the last step"),
        "conduit nodes": (
            "conduit_nodes.csv",
            "heads and flows at the nodes of the conduits, at the last step",
        ),
        "conduit budget": ("conduit_budget.csv", "the water budget of the conduits, of the last step"),
        "conduits in time": ("conduits.nc", "what conduits carry, step by step"),
        "springs": ("springs.csv", "what springs of conduits give, step by step"),
        "conduits picture": ("conduits.png", "the conduits over heads in the rock"),
        "conduit profile": ("conduit_profile.png", "heads along the conduits"),
        "springs picture": ("springs.png", "what springs of conduits give in time"),
    },
    "Local model and its region": {
        "rim": (
            "rim.csv",
            "the rim of a local model: what each stretch is, and what flows across it in the region",
        ),
        "cut arrays": (
            "cut_arrays.csv",
            "from where each array of a local model is: the site, or the region's flow",
        ),
        "agreement of heads": (
            "agreement_heads.csv",
            "how far the heads of a local model are from those of its region",
        ),
        "agreement at the rim": ("agreement_rim.csv", "what passes the rim, in the region and here"),
        "agreement of budgets": (
            "agreement_budget.csv",
            "the budgets of a local model and of its region within the outline",
        ),
        "rim picture": ("rim.png", "the rim of a local model over the region's heads"),
        "difference picture": ("difference.png", "heads of a local model less those of its region"),
    },
    "Solver": {
        "solver": ("solver.csv", "every Newton step"),
    },
}

FILES = {
    key: RunFile(name, words, part) for part, files in _PARTS.items() for key, (name, words) in files.items()
}
"""Every file by a key."""


def files_of(folder: Path, key: str) -> dict[str, Path]:
    """Return the files of a kind that a run has written, by the layer or request they are of; "" where there is one.

    A name that fits two kinds, as ``paths-old.gpkg`` and ``path_ends.csv`` do not, is of the one that says more of it.
    """
    before, _, after = FILES[key].name.partition("{}")
    if not after:
        path = folder / before
        return {"": path} if path.exists() else {}
    longer = [
        name.partition("{}")[0]
        for name, _, _ in FILES.values()
        if name.endswith(after) and len(name.partition("{}")[0]) > len(before)
    ]
    found = {}
    for path in sorted(folder.glob(f"{before}*{after}")):
        of = path.name.removeprefix(before).removesuffix(after)
        is_one = not of or of.startswith("-") or before.endswith("_")
        if is_one and not any(path.name.startswith(other) for other in longer):
            found[of.strip("-").replace("_", " ")] = path
    return found
