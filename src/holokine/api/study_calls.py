"""The calls that run an assembly many times."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.building import Building
from holokine.describe.stages import Request
from holokine.errors import whole_number
from holokine.units import argument_of

if TYPE_CHECKING:
    from holokine.api.studies import MeshStudy, ScatterStudy, TargetStudy
    from holokine.api.study import VariantStudy
    from holokine.store.chain import Memory

__all__ = ["StudyCalls"]

Value = float | str
Place = str | tuple[str | int, ...]
"""Where something stands in a description: keys joined by slashes, or as a tuple."""


class StudyCalls(Building):
    """Many variants, scatter, a target frequency, convergence of the mesh."""

    @property
    def _memory(self) -> Memory:
        raise NotImplementedError

    def _request(self, count: int | None, upto: Value | None) -> Request:
        limit = None if upto is None else argument_of("upto", upto, "frequency")
        count = None if count is None else whole_number("count", count)
        return Request.of(self.description, count, limit)

    def study(
        self,
        parameters: Mapping[Place, Any],
        *,
        samples: int | None = None,
        seed: int = 1,
        read: Sequence[str | tuple[str, str]] = (),
        wishes: Sequence[str] = (),
        count: int | None = None,
        upto: Value | None = None,
        jobs: int | None = 1,
        scheduler: str | None = None,
        folder: str | Path | None = None,
    ) -> VariantStudy:
        """Run many variants: modes followed by their shapes, and any reading of any event.

        Parameters
        ----------
        parameters : dict
            Values by place: keys of the description joined by slashes, such as ``"parts/deck/plate/thickness"``
            (positions in lists from 1; a tuple of keys where a name holds a slash). Values are a list, or words:
            ``"2 to 6 mm in 5"``, ``"uniform 2 to 6 mm"``, ``"normal 3 mm +- 5 %"``, ``"lognormal 3 mm +- 0.2 mm"``.
        samples : int, optional
            Draw so many by a Latin hypercube, not a grid of all values.
        seed : int
            Another start draws others.
        read : list of str
            'EVENT: GAUGE': a peak to be read of every variant.
        wishes : list of str
            Such as 'lowest mode above 25 Hz', 'least mass': which variant is best.
        count : int, optional
            Number of lowest modes.
        upto : float or str, optional
            Highest frequency, such as 400Hz (a bare number is Hz).
        jobs : int, optional
            Processes; None: as many as cores and memory allow. A script that asks for more than one guards its main
            part by ``if __name__ == "__main__":``.
        scheduler : str, optional
            Run on the workers of this dask.distributed scheduler, such as tcp://host:8786.
        folder : str or Path, optional
            Where finished variants are kept, so that an interrupted run goes on.

        Raises
        ------
        DescriptionError, UnknownNameError, EventError, MechanismError, SolverError
            A place, value, event or reading that is not there, a parameter that changes nothing, or an assembly that
            cannot be solved as it is written. A variant that fails is a row of the table.
        """
        from holokine.api.study import VariantStudy, readings_of
        from holokine.vary import plan_of, read_wish, run_plan

        host: Any = self
        for wish in wishes:  # before anything is solved
            read_wish(wish)
        jobs = None if jobs is None else whole_number("jobs", jobs)
        plan = plan_of(self.document, parameters, samples, seed)
        first, results = run_plan(
            self.document, plan, self._request(count, upto), readings_of(host, read), jobs=jobs, scheduler=scheduler,
            keep=None if folder is None else Path(folder), memory=self._memory,
        )  # fmt: skip
        return VariantStudy(host, plan, first, results, wishes)

    def scatter(
        self,
        parameters: Mapping[Place, Any],
        *,
        read: Sequence[str | tuple[str, str]] = (),
        samples: int | None = None,
        seed: int = 1,
        count: int | None = None,
        upto: Value | None = None,
        jobs: int | None = 1,
        scheduler: str | None = None,
        folder: str | Path | None = None,
    ) -> ScatterStudy:
        """What scattering inputs do to frequencies and peaks: by derivatives, and with `samples` by a Latin hypercube.

        Parameters as of `study`, with distributions for values: ``"normal 205 GPa +- 3 %"``, ``"lognormal 140 N/mm +-
        10 %"``, ``"uniform 2.8 to 3.2 mm"``.

        Raises
        ------
        DescriptionError, UnknownNameError, EventError, MechanismError, SolverError
        """
        from holokine.api.studies import ScatterStudy
        from holokine.api.study import readings_of
        from holokine.vary.scatter import first_order, scattered_parameters

        inputs = scattered_parameters(self.document, parameters)
        host: Any = self
        basis, readings = self._request(count, upto), readings_of(host, read)
        effects = first_order(self.document, inputs, basis, readings, self._memory)
        drawn = None
        if samples is not None:
            drawn = self.study(parameters, samples=samples, seed=seed, read=read, count=count, upto=upto, jobs=jobs,
                               scheduler=scheduler, folder=folder)  # fmt: skip
        return ScatterStudy(host, effects, drawn)

    def target(self, parameter: Place, mode: int, frequency: Value, *, count: int | None = None) -> TargetStudy:
        """Which value of a parameter brings a mode to a frequency: by derivatives, then run again to prove.

        Parameters
        ----------
        parameter : str or tuple
            A place that holds a number above zero, as for `study`.
        mode : int
            Its number now; it is followed by its shape.
        frequency : float or str
            Frequency that it is to have, in Hz or with a unit.

        Raises
        ------
        DescriptionError, UnknownNameError
            The mode hardly depends on it, or the value that is found on the way cannot be.
        """
        from holokine.api.studies import TargetStudy
        from holokine.vary import reach

        mode = whole_number("mode", mode)
        basis = self._request(count, None)
        if basis.count is not None and basis.count < mode + 4 and basis.upto is None:
            basis = Request.of(self.description, mode + 4)
        wanted = argument_of("frequency", frequency, "frequency")
        host: Any = self
        return TargetStudy(host, reach(self.document, parameter, mode, wanted, basis, self._memory))

    def converge(
        self,
        times: Sequence[float] = (1.5, 2.0),
        *,
        read: Sequence[str | tuple[str, str]] = (),
        count: int | None = None,
        upto: Value | None = None,
    ) -> MeshStudy:
        """Run with the built-in meshes finer by some factors: what frequencies and peaks tend to, with error bars.

        Parameters
        ----------
        times : list of float
            How much finer the elements become.

        Raises
        ------
        DescriptionError, UnknownNameError
            No built-in mesh, or factors that make no difference.
        """
        from holokine.api.studies import MeshStudy
        from holokine.api.study import readings_of
        from holokine.vary import refined

        request = self._request(count, upto)
        host: Any = self
        return MeshStudy(host, refined(self.document, request, readings_of(host, read), times, self._memory))
