"""Vast Grid: terrain conversion for survey technicians, with the proof of what each conversion did."""

# Made from the declarations by python -m vastgrid.library.stubs; not written by hand.
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, Literal, Self, TypeAlias, TypeVar

import numpy as np
from affine import Affine
from numpy.typing import NDArray

from vastgrid.base.errors import CallError as CallError
from vastgrid.base.errors import Cancelled as Cancelled
from vastgrid.base.errors import DataError as DataError
from vastgrid.base.errors import FormatError as FormatError
from vastgrid.base.errors import WriteError as WriteError
from vastgrid.data.dataset import Extent as Extent
from vastgrid.data.frame import Frame as Frame
from vastgrid.data.loss import Loss as Loss
from vastgrid.library.data import Finding as Finding
from vastgrid.library.files import Written as Written
from vastgrid.library.repeating import Ran as Ran
from vastgrid.library.values import Length as Length

__version__: str
_Length: TypeAlias = Length | float | str
_Row: TypeAlias = str | Sequence[float] | Sequence[Sequence[float]]
Told: TypeAlias = Callable[[float, str], None]
AnyLength: TypeAlias = Length
_D = TypeVar("_D", bound=Data)

class _Begins_accuracy:
    def accuracy(
        self,
        *,
        points: Data | Sequence[Data] = ...,
        limit: Data | Sequence[Data] = ...,
        by: str | Path = ...,
        blunder: float = ...,
        survey: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Table:
        """Compares independent check points with a surface: residuals, RMSEz and accuracy at 95 % by the published standards.

        Parameters
        ----------
        by
            Attribute of the points by which figures are split, such as land cover.
        blunder
            Residuals farther from the median than this many robust deviations are reported as blunders.
        survey
            RMSE of the check points themselves, which ASPRS 2024 adds.
        """

class _Begins_align:
    def align(
        self,
        *,
        like: Data | Sequence[Data] = ...,
        method: Literal["linear", "natural", "idw", "lowest", "highest", "mean", "median", "count"] = ...,
        progress: Told | None = ...,
    ) -> Grid:
        """Heights of a surface or of points at the cells of another grid: the same corner, size, rows and columns.

        Parameters
        ----------
        method
            linear or natural: read from the surface; idw: by distance; lowest, highest, mean, median, count: of what lies in each cell.
        """

class _Begins_along:
    def along(
        self,
        *,
        surface: Data | Sequence[Data] = ...,
        spacing: _Length | None = ...,
        corners: bool = ...,
        progress: Told | None = ...,
    ) -> PointSet:
        """Points at an even distance along lines, with the heights of the lines or of a surface.

        Parameters
        ----------
        spacing
            From one point to the next, along the line.
        corners
            Every vertex of a line gets a point as well.
        """

class _Begins_areas:
    def areas(
        self,
        *,
        close: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Areas:
        """Closed lines as areas: one inside another on the same layer is a hole in it.

        Parameters
        ----------
        close
            A line whose end misses its beginning by no more than this is closed, and counted.
        """

class _Begins_arrows:
    def arrows(
        self,
        *,
        spacing: _Length | None = ...,
        level: _Length | _Row = ...,
        progress: Told | None = ...,
    ) -> Linework:
        """Arrows at an even spacing that point down the slope, with their slope and bearing.

        Parameters
        ----------
        spacing
            Of the arrows, along east and north.
        level
            Ground flatter than this gets no arrow: 0.5 %.
        """

class _Begins_aspect:
    def aspect(
        self,
        *,
        progress: Told | None = ...,
    ) -> Grid:
        """The bearing, clockwise from north, that the ground falls towards at each cell; level cells have none. After Horn (1981)."""

class _Begins_bands:
    def bands(
        self,
        *,
        interval: _Length | None = ...,
        limits: _Length | _Row | None = ...,
        shares: int | None = ...,
        as_: Literal["polygons", "grid"] = ...,
        progress: Told | None = ...,
    ) -> Areas:
        """The surface divided by height, or a grid by its values, such as slope: areas, or a grid.

        Parameters
        ----------
        interval
            Height of each band; bands begin at whole multiples of it.
        limits
            Your own limits: 200, 210, 225 m; of slopes 5, 10, 25.
        shares
            Number of bands of equal area.
        as_
            polygons: the areas of each band; grid: the number of its band in each cell.
        """

class _Begins_between:
    def between(
        self,
        *,
        inside: Data | Sequence[Data] = ...,
        boundaries: str | Path = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Table:
        """Cut and fill from each of several surfaces to every later one, in the order in which they are given.

        Parameters
        ----------
        boundaries
            Names or layers of the closed lines that count, separated by commas; * and ? as in names of files.
        area
            An area that was drawn or typed, beside closed lines or instead of them.
        """

class _Begins_cells:
    def cells(
        self,
        *,
        progress: Told | None = ...,
    ) -> Grid:
        """A grid with a cell at every point of a regular grid of points, its height unchanged."""

class _Begins_clean:
    def clean(
        self,
        *,
        log: _Length | _Row = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Points deleted, kept or given a class by areas drawn in the plan, in a section or in 3D: a log of lines, replayed when the points change.

        Parameters
        ----------
        log
            One line each, such as: delete inside 431200,887100 431260,887100 431260,887140, or class 7 everywhere below 180m.
        """

class _Begins_choose:
    def choose(
        self,
        *,
        at: _Length | _Row | None = ...,
        by: str | Path = ...,
        named: str | Path = ...,
        side: Literal["kept", "out"] = ...,
        progress: Told | None = ...,
    ) -> Self:
        """The areas at places, or those that an attribute names, kept alone or left out.

        Parameters
        ----------
        at
            Places in the areas that are meant: east and north of each, with commas between them.
        by
            Attribute that names them, or layer.
        named
            Its values for those that are meant, with commas between them.
        side
            kept: they stay alone; out: they are left out.
        """

class _Begins_clip:
    def clip(
        self,
        *,
        limit: Data | Sequence[Data] = ...,
        side: Literal["inside", "outside"] = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Self:
        """What lies inside or outside closed lines: triangles and lines are cut exactly at the edge.

        Parameters
        ----------
        side
            inside: what lies in the closed lines stays; outside: everything else stays.
        area
            An area that was drawn or typed, instead of closed lines.
        """

class _Begins_compare:
    def compare(
        self,
        *,
        new: Data | Sequence[Data] = ...,
        progress: Told | None = ...,
    ) -> Table:
        """How far one surface lies above another where there are both: largest, RMSE, mean, 95 %."""

class _Begins_contours:
    def contours(
        self,
        *,
        limit: Data | Sequence[Data] = ...,
        interval: _Length | None = ...,
        base: _Length | None = ...,
        index: int = ...,
        lowest: _Length | None = ...,
        highest: _Length | None = ...,
        levels: _Length | _Row | None = ...,
        shortest: _Length | None = ...,
        smooth: Literal["none", "light", "medium", "strong"] = ...,
        held: bool = ...,
        weed: _Length | None = ...,
        supplementary: _Length | _Row | None = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Contours:
        """Level lines of a TIN or grid, chained, with higher ground on the left.

        Parameters
        ----------
        interval
            Vertical distance of neighbouring contours.
        base
            Elevation from which contours are counted.
        index
            Every n-th contour counted from the base, or from the first of a list, is an index contour.
        lowest
            No contour lies below it.
        highest
            No contour lies above it.
        levels
            A list of your own instead of an interval: 100, 105.5, 120 m.
        shortest
            Contours shorter than this are left out, and counted.
        smooth
            none, light, medium or strong; no contour crosses another or leaves its half of the way to the next level.
        held
            Smoothed contours do not cross surveyed points: each point stays on its side of the contour, or on it.
        weed
            Vertices closer than this to the straight line between their neighbours are removed, as long as no contours cross.
        supplementary
            At half the interval, where the ground is flatter than this: 3 %, 1.7deg, 33:1.
        area
            Only inside it: a box as west,south,east,north, or a polygon as E N, E N, E N.
        """

class _Begins_courses:
    def courses(
        self,
        *,
        layers: Literal["role", "name"] = ...,
        progress: Told | None = ...,
    ) -> Linework:
        """Alignments, parcels, plan features and trajectories, as lines on layers.

        Parameters
        ----------
        layers
            role: alignment, parcel, plan feature …; name: each record's own.
        """

class _Begins_daylight:
    def daylight(
        self,
        *,
        surface: Data | Sequence[Data] = ...,
        cut: _Length | _Row = ...,
        fill: _Length | _Row = ...,
        side: Literal["outside", "inside", "right", "left", "both"] | None = ...,
        corners: Literal["square", "round"] = ...,
        level: _Length | None = ...,
        bench: _Length | None = ...,
        width: _Length | None = ...,
        lines: _Length | None = ...,
        gives: Literal["slopes", "ground", "limit", "lines"] = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """Slopes from a line or the edge of a pad to the ground, in cut and in fill: their TIN, the ground with them, the daylight line, or slope lines.

        Parameters
        ----------
        cut
            Where the ground lies higher: 2:1 (horizontal to vertical), 50 %, 26.6deg; a bare number is n:1.
        fill
            Where the ground lies lower, written in the same way.
        side
            outside or inside of a closed line; right, left or both of an open one, seen along it.
        corners
            square: the slopes of both legs carried on until they meet; round: a cone around the corner.
        level
            One height for the whole line, instead of its own.
        bench
            Height from one bench to the next; none for slopes without.
        width
            How wide a bench is.
        lines
            Spacing of the lines down the slopes, long and short in turn.
        gives
            slopes: a TIN of them; ground: the ground with pad and slopes; limit: the daylight line; lines: slope lines.
        """

class _Begins_difference:
    def difference(
        self,
        *,
        top: Data | Sequence[Data] = ...,
        as_: Literal["tin", "grid"] | None = ...,
        cell: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """How far a surface lies above another, as a surface of its own: exact between TINs, or by cells.

        Parameters
        ----------
        as_
            tin: exact, with an edge wherever either surface has one; grid: at the centres of cells.
        cell
            Size of a cell of a grid.
        """

class _Begins_edit:
    def edit(
        self,
        *,
        log: _Length | _Row = ...,
        near: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """A TIN with edits made by hand: a log of lines, replayed by coordinates when what it is made from changes.

        Parameters
        ----------
        log
            One line each, such as: set 431200,887100 231.4m, or cut 431200,887100 431260,887140.
        near
            set, remove, move and swap mean the vertex or edge nearest to their place, up to this far away.
        """

class _Begins_facets:
    def facets(
        self,
        *,
        progress: Told | None = ...,
    ) -> Tin:
        """A TIN with a vertex at the centre of every cell that has a height."""

class _Begins_fit:
    def fit(
        self,
        *,
        from_: Data | Sequence[Data] = ...,
        to: Data | Sequence[Data] = ...,
        model: Literal["shift", "helmert", "helmert_fixed", "affine", "helmert_3d"] = ...,
        heights: Literal["auto", "shift", "plane", "none"] = ...,
        by: str | Path = ...,
        blunder: float = ...,
        drop: bool = ...,
        keep: str | Path = ...,
        using: str | Path = ...,
        inverse: bool = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Data from a local grid onto known points: shift, turn and scale by least squares, with residuals at every point.

        Parameters
        ----------
        model
            shift; helmert: shift, turn and scale; helmert_fixed: without scale; affine: with shear; helmert_3d: in space, heights too.
        heights
            auto: shift where both sets have heights; shift: one amount; plane: a tilted plane over the local points; none: heights stay.
        by
            Attribute with the number or name of a point, in both sets.
        blunder
            Points that lie beyond this many standard deviations from a fit of the others are named.
        drop
            yes: points that are named as blunders do not count.
        keep
            File in which the fit is kept, for other data.
        using
            File with a fit that was kept; no points are needed then.
        inverse
            yes: from the known points to the local ones.
        """

class _Begins_grid:
    def grid(
        self,
        *,
        limit: Data | Sequence[Data] = ...,
        cell: _Length | None = ...,
        method: Literal["linear", "natural", "idw", "lowest", "highest", "mean", "median", "count"] | None = ...,
        classes: _Length | _Row | None = ...,
        area: _Length | _Row | None = ...,
        fill: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Grid:
        """Heights at the centres of regular cells: of a surface, or from the points in each cell.

        Parameters
        ----------
        cell
            Width and height of a cell.
        method
            linear: in the triangles, breaklines honoured, of a raster between four cells; natural: natural neighbours (Sibson); idw: the 12 nearest by the inverse square of their distance; lowest, highest, mean, median, count: of the points in each cell.
        classes
            Only points of these classes count: 2, 9.
        area
            Where: a box as west,south,east,north, or a polygon as E N, E N, E N.
        fill
            Empty cells no farther than this from one with a height are filled by distance.
        """

class _Begins_ground:
    def ground(
        self,
        *,
        preset: Literal["open", "wooded", "built"] = ...,
        cell: _Length | None = ...,
        window: _Length | None = ...,
        slope: float | None = ...,
        height: _Length | None = ...,
        scale: float | None = ...,
        noise: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Sets the class of each point to ground or not, by a morphological filter; no point is dropped.

        Parameters
        ----------
        preset
            open: grass and rock; wooded: bushes and trees; built: houses. It sets the other values.
        cell
            Width of the cells whose lowest points are looked at.
        window
            Half the width of the widest object that stands on the ground.
        slope
            How much steeper than its surroundings ground may be, as a ratio.
        height
            How far from the provisional ground a point may lie.
        scale
            How much farther it may lie for each unit of slope, in cells.
        noise
            Points lower than the ground by more than this become class 7, low noise.
        """

class _Begins_hillshade:
    def hillshade(
        self,
        *,
        azimuth: float = ...,
        altitude: float = ...,
        suns: int = ...,
        exaggeration: float = ...,
        progress: Told | None = ...,
    ) -> Grid:
        """Light on each cell: 255 times the cosine between the sun and the ground's normal after Horn (1981), 0 where it is dark.

        Parameters
        ----------
        azimuth
            Clockwise from north, in degrees.
        altitude
            Above the horizon, in degrees.
        suns
            Number of suns, evenly spaced from the first one's bearing; their light is averaged.
        exaggeration
            Makes gentle ground stand out.
        """

class _Begins_heights:
    def heights(
        self,
        *,
        add: _Length | None = ...,
        times: float | None = ...,
        geoid: str | Path = ...,
        to: Literal["orthometric", "ellipsoidal"] | None = ...,
        outside: Literal["refuse", "drop"] | None = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Heights raised or lowered, multiplied, or brought from the ellipsoid to the geoid and back by a geoid grid.

        Parameters
        ----------
        add
            What is added to every height; negative lowers.
        times
            What every height is multiplied with, before anything is added.
        geoid
            A geoid grid: a file of heights of the geoid above the ellipsoid (GTX, GeoTIFF, or what PROJ reads).
        to
            orthometric: heights above the geoid; ellipsoidal: heights above the ellipsoid.
        outside
            refuse: nothing is made where places lie outside the grid; drop: points and cells there are left out, and counted.
        """

class _Begins_labels:
    def labels(
        self,
        *,
        height: float | None = ...,
        scale: float | None = ...,
        ground: _Length | None = ...,
        only: Literal["index", "all"] | None = ...,
        decimals: int | None = ...,
        spacing: _Length | None = ...,
        first: _Length | None = ...,
        ends: bool = ...,
        placed: Literal["gap", "on", "above"] = ...,
        facing: Literal["reader", "uphill"] = ...,
        shortest: _Length | None = ...,
        along: _Length | _Row | None = ...,
        depressions: bool = ...,
        moved: _Length | _Row = ...,
        progress: Told | None = ...,
    ) -> Self:
        """The levels written along contours: never over each other, none on a sharp bend.

        Parameters
        ----------
        height
            Of the labels on paper, in millimetres.
        scale
            Of the plan, as the n of 1:n.
        ground
            Of the labels, instead of a height on paper.
        only
            index: index contours only; all: every contour.
        decimals
            Of the levels; open: what the interval needs.
        spacing
            From one label to the next along a line.
        first
            From the beginning of a line to its first label.
        ends
            Open lines get a label at either end as well.
        placed
            gap: the line is broken for it; on: it stands on the line; above: beside it.
        facing
            reader: upright on the sheet; uphill: readable facing uphill.
        shortest
            Contours shorter than this get none.
        along
            Labels stand where contours cross this line, instead of at a spacing.
        depressions
            Labels of closed depressions stand in brackets.
        moved
            One line each: LEVEL: E N -> E N. The label stays there when contours are made again.
        """

class _Begins_lattice:
    def lattice(
        self,
        *,
        spacing: _Length | None = ...,
        degrees: float | None = ...,
        area: _Length | _Row | None = ...,
        elevations: Literal["surface", "service", "simulated"] = ...,
        service: str | Path = ...,
        progress: Told | None = ...,
    ) -> PointSet:
        """Points at an even spacing over an area, with elevations from a surface or from an elevation service.

        Parameters
        ----------
        spacing
            Distance of neighbouring points.
        degrees
            Spacing in degrees of longitude and latitude instead.
        area
            Where: a box as west,south,east,north, or a polygon as E N, E N, E N.
        elevations
            surface: the dataset itself; service: an elevation service on this machine, by its address; simulated: invented heights, to try what a service gives.
        service
            Its address on this machine, such as http://127.0.0.1:8700.
        """

class _Begins_lay:
    def lay(
        self,
        *,
        surface: Data | Sequence[Data] = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Lines with the heights of a surface: a vertex wherever it bends below them, their own vertices kept in plan."""

class _Begins_levels:
    def levels(
        self,
        *,
        interval: _Length | None = ...,
        index: int = ...,
        progress: Told | None = ...,
    ) -> Contours:
        """Level lines, each of one height, as contours, with index contours by their interval.

        Parameters
        ----------
        interval
            Level interval: the difference of neighbouring levels.
        index
            Every n-th, counted from 0, is an index contour.
        """

class _Begins_lines:
    def lines(
        self,
        *,
        progress: Told | None = ...,
    ) -> Linework:
        """The rims of areas and of their holes as closed lines, with the layer and attributes of their area."""

class _Begins_merge:
    def merge(
        self,
        *,
        over: Data | Sequence[Data] = ...,
        limit: Data | Sequence[Data] = ...,
        keep: Literal["over", "lowest", "highest"] = ...,
        seam: _Length | None = ...,
        offset: _Length | None = ...,
        gap: _Length | None = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """A surface laid over another, or the lower or higher of two, with shared edges where they meet.

        Parameters
        ----------
        keep
            over: what is laid over counts; lowest or highest: the lower or the higher of the two.
        seam
            wall: a step between them stays one; a width: it is blended over that width of the ground beside it.
        offset
            How far a wall leans, since no place can have two heights.
        gap
            Neighbouring surfaces that lie no farther apart than this are joined.
        area
            Only what is laid inside it, instead of closed lines.
        """

class _Begins_mosaic:
    def mosaic(
        self,
        *,
        overlap: Literal["feather", "first", "mean", "lowest", "highest"] = ...,
        width: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Grid:
        """Several grids as one, on the cells of the finest.

        Parameters
        ----------
        overlap
            feather: weighted by the distance to its edge; first: the one named first; mean, lowest, highest.
        width
            Distance from its edge beyond which a grid counts in full.
        """

class _Begins_move:
    def move(
        self,
        *,
        by: _Length | _Row | None = ...,
        turn: float | None = ...,
        scale: float | None = ...,
        about: str | Path = ...,
        progress: Told | None = ...,
    ) -> Self:
        """The same data elsewhere: shifted, turned about a place, plan lengths scaled; a grid is sampled anew only where it must be.

        Parameters
        ----------
        by
            East, north and, if wanted, up: 100,200,0.5 in the units of the data, or 100m,200m,0.5m.
        turn
            Degrees, counter-clockwise seen from above.
        scale
            Of plan lengths; heights are not scaled.
        about
            East,north of the place that turning and scaling leave where it is.
        """

class _Begins_no_change:
    def no_change(
        self,
        *,
        second: Data | Sequence[Data] = ...,
        progress: Told | None = ...,
    ) -> Linework:
        """The line along which two surfaces have the same height."""

class _Begins_parcels:
    def parcels(
        self,
        *,
        progress: Told | None = ...,
    ) -> Areas:
        """The parcels of a survey as areas, each with its name, what the file says of it, and its stated area."""

class _Begins_records:
    def records(
        self,
        *,
        progress: Told | None = ...,
    ) -> Survey:
        """Each part of an area as a parcel, with its name and its area, its holes as plan features, for LandXML."""

class _Begins_noise:
    def noise(
        self,
        *,
        neighbours: int = ...,
        times: float = ...,
        progress: Told | None = ...,
    ) -> Self:
        """Sets the class of points that stand apart from all others to low noise (7) or high noise (18); no point is dropped.

        Parameters
        ----------
        neighbours
            How many nearest points each is compared with.
        times
            Noise lies more than this many times as far from its neighbours as the points around it from theirs.
        """

class _Begins_offset:
    def offset(
        self,
        *,
        by: _Length = ...,
        rise: _Length = ...,
        corners: Literal["square", "round"] = ...,
        progress: Told | None = ...,
    ) -> Linework:
        """Lines moved sideways in plan by a distance, and up or down.

        Parameters
        ----------
        by
            Positive to the right of the line's direction, negative to its left.
        rise
            What is added to the heights; negative is down.
        corners
            square: legs are carried on until they meet; round: an arc around the corner.
        """

class _Begins_outline:
    def outline(
        self,
        *,
        length: _Length | None = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Areas:
        """What a TIN, a grid or points cover: the rim with its holes, the outer edges of cells, the convex hull or a closer one.

        Parameters
        ----------
        length
            Of points: where neighbours lie farther apart than this, the outline turns in or leaves a hole.
        area
            An area that was drawn or typed: only what lies in it.
        """

class _Begins_pile:
    def pile(
        self,
        *,
        inside: Data | Sequence[Data] = ...,
        base: Literal["rim", "plane", "lowest"] = ...,
        boundaries: str | Path = ...,
        area: _Length | _Row | None = ...,
        ground: bool = ...,
        progress: Told | None = ...,
    ) -> Table:
        """A stockpile or a pond: what lies above and below a base made from the rim of an area.

        Parameters
        ----------
        base
            rim: triangles through the ground at the rim; plane: the plane that lies nearest to it; lowest: level, at its lowest place.
        boundaries
            Names or layers of the closed lines that count, separated by commas; * and ? as in names of files.
        area
            An area that was drawn or typed, beside closed lines or instead of them.
        ground
            yes: areas and volumes on the ground instead of on the grid, by the combined factor at the middle.
        """

class _Begins_points:
    def points(
        self,
        *,
        progress: Told | None = ...,
    ) -> PointSet:
        """The vertices of a TIN, of a mesh, of lines or contours, or the cell centres of a grid."""

class _Begins_reproject:
    def reproject(
        self,
        *,
        crs: str | Path = ...,
        progress: Told | None = ...,
    ) -> Self:
        """The same ground in another coordinate reference system; heights change to another system only where that is certain.

        Parameters
        ----------
        crs
            Coordinate reference system to bring it into, as EPSG:25832 or WKT; for degrees the UTM zone is suggested.
        """

class _Begins_scatter:
    def scatter(
        self,
        *,
        number: int = ...,
        seed: int = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> PointSet:
        """Randomly placed points, evenly distributed over a surface, with its heights.

        Parameters
        ----------
        number
            How many points.
        seed
            The same seed gives the same points again.
        area
            Where: a box as west,south,east,north, or a polygon as E N, E N, E N.
        """

class _Begins_simplify:
    def simplify(
        self,
        *,
        tolerance: _Length | None = ...,
        triangles: int | None = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """A TIN of a surface within a vertical tolerance, or with at most a given number of triangles; outlines, voids, breaklines and no-data stay.

        Parameters
        ----------
        tolerance
            No vertex, cell or place between them lies farther from the new surface, vertically.
        triangles
            The most triangles it may have, instead of a tolerance.
        """

class _Begins_slope:
    def slope(
        self,
        *,
        as_: Literal["percent", "degrees", "ratio"] = ...,
        progress: Told | None = ...,
    ) -> Grid:
        """How steep the ground is at each cell, after Horn (1981).

        Parameters
        ----------
        as_
            percent: rise over run; degrees from level; ratio: horizontal per one vertical, at most 1000.
        """

class _Begins_solid:
    def solid(
        self,
        *,
        scale: float | None = ...,
        spacing: float = ...,
        exaggeration: float = ...,
        base: float = ...,
        bed: _Length | _Row = ...,
        tiles: bool = ...,
        area: _Length | _Row | None = ...,
        progress: Told | None = ...,
    ) -> Mesh:
        """A closed body of the surface with a base, in millimetres at a scale, checked against a printer's bed.

        Parameters
        ----------
        scale
            The n of 1:n.
        spacing
            Of the heights, in millimetres of the print.
        exaggeration
            Vertical exaggeration.
        base
            Thickness below the lowest place, in millimetres.
        bed
            What the printer has room for, in millimetres: 300x420.
        tiles
            Where it does not fit the bed, it is cut into numbered tiles.
        area
            Only this: a box as west,south,east,north, or a polygon.
        """

class _Begins_sizes:
    def sizes(
        self,
        *,
        ground: bool = ...,
        progress: Told | None = ...,
    ) -> Table:
        """A table with the area and the perimeter of each area; in degrees by the ellipsoid.

        Parameters
        ----------
        ground
            yes: areas and volumes on the ground instead of on the grid, by the combined factor at the middle.
        """

class _Begins_stages:
    def stages(
        self,
        *,
        inside: Data | Sequence[Data] = ...,
        every: _Length | None = ...,
        levels: _Length | _Row | None = ...,
        boundaries: str | Path = ...,
        area: _Length | _Row | None = ...,
        ground: bool = ...,
        progress: Told | None = ...,
    ) -> Table:
        """Area and volume between the ground and a level surface inside a line, level by level.

        Parameters
        ----------
        every
            Level interval: the difference of neighbouring levels.
        levels
            A list of levels instead.
        boundaries
            Names or layers of the closed lines that count, separated by commas; * and ? as in names of files.
        area
            An area that was drawn or typed, beside closed lines or instead of them.
        ground
            yes: areas and volumes on the ground instead of on the grid, by the combined factor at the middle.
        """

class _Begins_structures:
    def structures(
        self,
        *,
        surface: Data | Sequence[Data] = ...,
        height: str | Path = ...,
        shape: Literal["cylinder", "box"] = ...,
        size: _Length = ...,
        above: _Length = ...,
        progress: Told | None = ...,
    ) -> Mesh:
        """Cylinders or boxes that stand at points, on a surface or above it, as tall as an attribute says.

        Parameters
        ----------
        height
            Name of the attribute that has it, or one height for all, such as 6m.
        shape
            cylinder or box, standing upright.
        size
            Diameter of a cylinder, width of a box.
        above
            How far above the ground they begin.
        """

class _Begins_system:
    def system(
        self,
        *,
        crs: str | Path = ...,
        instead: bool = ...,
        progress: Told | None = ...,
    ) -> Self:
        """States the coordinate reference system of data whose file does not say it; every coordinate stays as it is.

        Parameters
        ----------
        crs
            Coordinate reference system in which the coordinates already are, as EPSG:25832 or WKT.
        instead
            Also where the data says another system, which is then overridden.
        """

class _Begins_thin:
    def thin(
        self,
        *,
        spacing: _Length | None = ...,
        keep: Literal["lowest", "highest", "mean", "central"] = ...,
        progress: Told | None = ...,
    ) -> Self:
        """One point of each cell of a lattice: the lowest, the highest, the one nearest to its middle, or their mean.

        Parameters
        ----------
        spacing
            Width of the cells, counted from whole multiples of it; one point of each stays.
        keep
            lowest, highest; mean: one new point at the mean place and height; central: the one nearest to the cell's middle.
        """

class _Begins_ticks:
    def ticks(
        self,
        *,
        length: _Length | None = ...,
        spacing: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Linework:
        """Short lines on contours that close around lower ground, pointing down.

        Parameters
        ----------
        length
            Of a tick.
        spacing
            From one tick to the next along the line.
        """

class _Begins_tin:
    def tin(
        self,
        *,
        limit: Data | Sequence[Data] = ...,
        max_edge: _Length | None = ...,
        circle: _Length | None = ...,
        rim_length: _Length | _Row | None = ...,
        rim_angle: float | None = ...,
        classes: str | Path = ...,
        boundary: str | Path = ...,
        voids: str | Path = ...,
        islands: str | Path = ...,
        whole: str | Path = ...,
        area: _Length | _Row | None = ...,
        breaklines: str | Path = ...,
        walls: str | Path = ...,
        proximity: str | Path = ...,
        nondestructive: str | Path = ...,
        contours: str | Path = ...,
        weed: _Length | None = ...,
        spacing: _Length | None = ...,
        flats: bool | None = ...,
        heights: Literal["mean", "first", "last", "highest", "lowest"] = ...,
        crossings: Literal["mean", "first", "last", "highest", "lowest", "refuse"] | None = ...,
        offset: _Length | None = ...,
        same_place: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """Constrained Delaunay triangulation of points, breaklines of every kind and contours, inside one outer boundary and outside voids; a TIN is built anew from its source data, or from its vertices, breaklines and rim.

        Parameters
        ----------
        max_edge
            Triangles with a longer edge in plan are left out; edges on breaklines do not count.
        circle
            Triangles with a larger circumradius are left out: the TIN ends where points lie farther apart. With it a TIN can be made in tiles.
        rim_length
            Triangles at the rim are removed while their outer edge is longer than this; auto follows the density of the points.
        rim_angle
            Triangles at the rim with a smaller angle, in degrees, are removed.
        classes
            Classes of cloud points that are used, such as 2 for ground; others stay out.
        boundary
            Layer whose closed line limits the TIN; its heights are not used.
        voids
            Layers whose closed lines are holes in the TIN; their heights are not used.
        islands
            Layers whose closed lines are ground again inside a void.
        whole
            Layers of boundaries at which triangles stay whole: those whose middle lies inside; others are cut exactly.
        area
            An outer boundary that was drawn, or a rim that was taken.
        breaklines
            Layers whose lines become edges of the TIN: names or patterns (EDGE*), separated by commas; or none.
        walls
            Layers, names or patterns (EDGE*), separated by commas: two heights at one place, as two lines, foot and top.
        proximity
            Layers, names or patterns (EDGE*), separated by commas: edges lead from the point nearest to each vertex to the next.
        nondestructive
            Layers, names or patterns (EDGE*), separated by commas: lines become edges, and the ground stays as it is without them.
        contours
            Layers, names or patterns (EDGE*), separated by commas: lines of one height each, for weeding and for flat triangles.
        weed
            Vertices of contours closer than this to the line without them are removed.
        spacing
            Contours get additional vertices, so that none is farther than this from the next.
        flats
            yes: heights are inferred where triangles between contours would be false plateaus.
        heights
            Which height counts where several points are at one place.
        crossings
            Which height counts where breaklines cross or meet; refuse names every place instead.
        offset
            How far the top of a wall is moved towards the higher ground.
        same_place
            Points closer to each other than this are at one place; a point so close to a breakline lies on it.
        """

class _Begins_upper:
    def upper(
        self,
        *,
        side: Literal["upper", "lower"] = ...,
        progress: Told | None = ...,
    ) -> Tin:
        """The upper (or lower) side of a mesh with overhangs, or of a closed body, as a TIN.

        Parameters
        ----------
        side
            upper: faces that nothing lies above; lower: faces that nothing lies below.
        """

class _Begins_volumes:
    def volumes(
        self,
        *,
        top: Data | Sequence[Data] = ...,
        inside: Data | Sequence[Data] = ...,
        boundaries: str | Path = ...,
        area: _Length | _Row | None = ...,
        ground: bool = ...,
        depth: _Length | None = ...,
        swell: float | None = ...,
        shrink: float | None = ...,
        cell: _Length | None = ...,
        sections: _Length | None = ...,
        progress: Told | None = ...,
    ) -> Table:
        """How much earth lies between two surfaces: exact, and by cells and sections beside it; inside each of some boundaries, and by depth.

        Parameters
        ----------
        boundaries
            Names or layers of the closed lines that count, separated by commas; * and ? as in names of files.
        area
            An area that was drawn or typed, beside closed lines or instead of them.
        ground
            yes: areas and volumes on the ground instead of on the grid, by the combined factor at the middle.
        depth
            Cut and fill by depth, in classes of this height.
        swell
            Bulking factor: loose volume for each unit cut; 1.25 is a quarter more.
        shrink
            Shrinkage factor: compacted fill for each unit cut; 0.9 is a tenth less.
        cell
            Size of the cells of the cross-check.
        sections
            Distance between the sections of the cross-check.
        """

class Data:
    """Data of some kind, which cannot be changed: what it is, where it comes from, and every conversion as a method.

    A conversion is called as on the command line: parameters by name, with units where they have some, other inputs by the
    name of their role."""

    @property
    def kind(self) -> str:
        """What it is: “points”, “lines”, “contours”, “areas”, “tin”, “grid”, “mesh”, “survey” or “table”."""
    @property
    def name(self) -> str:
        """What it is called."""
    def named(self, name: str) -> Self:
        """Return the same data under another name."""
    @property
    def frame(self) -> Frame:
        """System and units together."""
    @property
    def crs(self) -> str | None:
        """Coordinate reference system as WKT; None where it is unknown or a local grid."""
    @property
    def unit(self) -> str | None:
        """Unit of eastings and northings: “m”, “mm”, “in”, “ft”, “us-ft” or “deg”; None where unknown."""
    @property
    def vertical_unit(self) -> str | None:
        """Unit of elevations; None where unknown."""
    @property
    def extent(self) -> Extent:
        """Smallest and largest of `east`, `north` and `elevation`, each a pair, or None where there is nothing."""
    @property
    def count(self) -> dict[str, int]:
        """How many there are of what."""
    @property
    def attributes(self) -> Mapping[str, NDArray[Any]]:
        """Columns by name, one value for each point, line or area; texts are text."""
    @property
    def digest(self) -> str:
        """Digest of all of it: the same where every array is the same to the last bit."""
    @property
    def sentence(self) -> str:
        """What the step that made it did."""
    @property
    def loss(self) -> Loss | None:
        """What that step cost vertically: `largest`, `rmse`, `mean`, `p95`; None where it changed no surface."""
    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed."""
    @property
    def figures(self) -> Mapping[str, Any]:
        """What the step counted, reached or answered, by name."""
    @property
    def more(self) -> Mapping[str, Data]:
        """What else the step gave, by name: residuals beside the data that was fitted, say."""
    @property
    def tables(self) -> tuple[Any, ...]:
        """All tables that the step gave."""
    def write(self, path: str | Path, **options: Any) -> Any:
        """Write it, read it back and compare; see `vastgrid.write`."""
    def check(self, **thresholds: Any) -> tuple[Finding, ...]:
        """Look at it with every check; see `vastgrid.check`."""

class Lines(Data):
    """What lines and contours have in common: vertices one after another, and where each line begins."""

    @property
    def vertices(self) -> NDArray[np.float64]:
        """All vertices, (n, 3) float64; elevation NaN where there is none."""
    @property
    def offsets(self) -> NDArray[np.int64]:
        """Line i is ``vertices[offsets[i]:offsets[i + 1]]``, (k + 1,)."""
    @property
    def layers(self) -> tuple[str, ...]:
        """The layer of each line."""
    def __len__(self) -> int: ...
    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely lines, (k,) object; with heights where there are some."""
    def __iter__(self) -> Iterator[NDArray[np.float64]]: ...

class Faces(Data):
    """What a TIN and a mesh have in common: vertices, and triangles of three of them."""

    @classmethod
    def from_arrays(
        cls,
        vertices: Any,
        triangles: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "surface",
    ) -> Self:
        """Return it from (n, 3) vertices and (m, 3) indices; triangles of a TIN are turned counter-clockwise."""
    @classmethod
    def from_trimesh(
        cls,
        mesh: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "surface",
    ) -> Self:
        """Return what a mesh of the trimesh package holds."""
    @property
    def vertices(self) -> NDArray[np.float64]:
        """Vertices, (n, 3) float64."""
    @property
    def triangles(self) -> NDArray[np.int32]:
        """Indices of vertices, (m, 3) int32; of a TIN counter-clockwise in plan."""
    def to_trimesh(self) -> Any:
        """Return a mesh of the trimesh package, in the same coordinates."""

class PointSet(
    _Begins_accuracy,
    _Begins_align,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_cells,
    _Begins_clean,
    _Begins_clip,
    _Begins_contours,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_mosaic,
    _Begins_move,
    _Begins_noise,
    _Begins_outline,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_structures,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    Data,
):
    """Points: `xyz` and attributes."""

    @classmethod
    def from_arrays(
        cls,
        xyz: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        attributes: Mapping[str, Any] | None = None,
        name: str = "points",
    ) -> Self:
        """Return points from (n, 3) coordinates, or (n, 2) without heights; metres where nothing else is said."""
    @classmethod
    def from_records(
        cls,
        records: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "points",
    ) -> Self:
        """Return points from a structured array: `east`, `north`, perhaps `elevation`, and further fields as attributes."""
    @property
    def xyz(self) -> NDArray[np.float64]:
        """Easting, northing, elevation, (n, 3) float64; elevation NaN where there is none."""
    def to_records(self) -> NDArray[Any]:
        """Return the points as a structured array: `east`, `north`, `elevation` and every attribute of one value each."""
    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely points, (n,) object; with heights where there are some."""
    def __len__(self) -> int: ...

class Linework(
    _Begins_along,
    _Begins_areas,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_between,
    _Begins_cells,
    _Begins_clean,
    _Begins_clip,
    _Begins_contours,
    _Begins_daylight,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_lay,
    _Begins_levels,
    _Begins_merge,
    _Begins_mosaic,
    _Begins_move,
    _Begins_noise,
    _Begins_offset,
    _Begins_outline,
    _Begins_pile,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_stages,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    _Begins_volumes,
    Lines,
):
    """Lines on layers, perhaps with attributes."""

    @classmethod
    def from_arrays(
        cls,
        lines: Sequence[Any],
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        attributes: Mapping[str, Any] | None = None,
        layers: Sequence[str] | str = "",
        name: str = "lines",
    ) -> Self:
        """Return lines from one (m, 3) array each; a layer for all, or one for each."""

class Contours(
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_cells,
    _Begins_clean,
    _Begins_clip,
    _Begins_contours,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_mosaic,
    _Begins_move,
    _Begins_noise,
    _Begins_outline,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    Lines,
):
    """Contours: lines, each of one level."""

    @property
    def levels(self) -> NDArray[np.float64]:
        """The level of each, (k,)."""
    @property
    def label_levels(self) -> NDArray[np.float64]:
        """The level that each label says, (l,); empty where there are none."""
    @property
    def interval(self) -> float:
        """Their interval; 0 where it is unknown."""

class Areas(
    _Begins_areas,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_between,
    _Begins_cells,
    _Begins_clean,
    _Begins_choose,
    _Begins_clip,
    _Begins_contours,
    _Begins_courses,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_levels,
    _Begins_lines,
    _Begins_merge,
    _Begins_mosaic,
    _Begins_move,
    _Begins_parcels,
    _Begins_records,
    _Begins_noise,
    _Begins_offset,
    _Begins_outline,
    _Begins_pile,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_sizes,
    _Begins_stages,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    _Begins_volumes,
    Data,
):
    """Areas: polygons with holes and parts."""

    @classmethod
    def from_geometries(
        cls,
        geometries: Any,
        attributes: Mapping[str, Any] | None = None,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "areas",
    ) -> Self:
        """Return areas from shapely polygons and multipolygons; slips are mended as those of a file."""
    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely polygons, multipolygons where an area has several parts, (k,) object; with heights where there are some."""
    @property
    def plan_sizes(self) -> NDArray[np.float64]:
        """Plan area of each, in square plan units, holes taken out, (k,)."""
    @property
    def layers(self) -> tuple[str, ...]:
        """The layer of each area."""
    def __len__(self) -> int: ...

class Tin(
    _Begins_accuracy,
    _Begins_align,
    _Begins_along,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_between,
    _Begins_cells,
    _Begins_clean,
    _Begins_clip,
    _Begins_compare,
    _Begins_contours,
    _Begins_daylight,
    _Begins_difference,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_lay,
    _Begins_merge,
    _Begins_mosaic,
    _Begins_move,
    _Begins_no_change,
    _Begins_noise,
    _Begins_outline,
    _Begins_pile,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_stages,
    _Begins_structures,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    _Begins_volumes,
    Faces,
):
    """A TIN: a surface with one height at each place."""

class Mesh(
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_cells,
    _Begins_clean,
    _Begins_contours,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_mosaic,
    _Begins_move,
    _Begins_noise,
    _Begins_outline,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    _Begins_upper,
    Faces,
):
    """A mesh in space, which may lie over itself."""

class Grid(
    _Begins_accuracy,
    _Begins_align,
    _Begins_along,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_between,
    _Begins_cells,
    _Begins_clean,
    _Begins_clip,
    _Begins_compare,
    _Begins_contours,
    _Begins_daylight,
    _Begins_difference,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_labels,
    _Begins_lattice,
    _Begins_lay,
    _Begins_mosaic,
    _Begins_move,
    _Begins_no_change,
    _Begins_noise,
    _Begins_outline,
    _Begins_pile,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_stages,
    _Begins_structures,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    _Begins_volumes,
    Data,
):
    """A grid of cells: heights, and where they lie."""

    @classmethod
    def from_arrays(
        cls,
        heights: Any,
        transform: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "grid",
    ) -> Self:
        """Return a grid from (rows, columns) heights, masked or NaN where there are none, and the affine transform of its outer corner."""
    @property
    def heights(self) -> NDArray[np.float64]:
        """Values, (rows, columns) float64, the northernmost row first; NaN where there is none."""
    @property
    def transform(self) -> Affine:
        """Affine transform from column and row to east and north; its origin is the outer corner of the north-western cell."""
    @property
    def profile(self) -> dict[str, Any]:
        """What a raster library has to know to write `heights`, by the names of rasterio."""
    @property
    def quantity(self) -> str:
        """What it holds: “height”, “height difference”, “slope” …."""
    @property
    def x(self) -> NDArray[np.float64]:
        """Eastings of the middles of columns, (columns,)."""
    @property
    def y(self) -> NDArray[np.float64]:
        """Northings of the middles of rows, (rows,)."""

class Survey(
    _Begins_areas,
    _Begins_arrows,
    _Begins_aspect,
    _Begins_bands,
    _Begins_cells,
    _Begins_clean,
    _Begins_choose,
    _Begins_contours,
    _Begins_courses,
    _Begins_edit,
    _Begins_facets,
    _Begins_fit,
    _Begins_grid,
    _Begins_ground,
    _Begins_hillshade,
    _Begins_heights,
    _Begins_labels,
    _Begins_lattice,
    _Begins_levels,
    _Begins_lines,
    _Begins_mosaic,
    _Begins_move,
    _Begins_parcels,
    _Begins_noise,
    _Begins_offset,
    _Begins_outline,
    _Begins_points,
    _Begins_reproject,
    _Begins_scatter,
    _Begins_simplify,
    _Begins_slope,
    _Begins_solid,
    _Begins_sizes,
    _Begins_system,
    _Begins_thin,
    _Begins_ticks,
    _Begins_tin,
    Data,
):
    """Survey records: alignments, parcels, plan features, trajectories, photo positions."""

    @property
    def records(self) -> tuple[Any, ...]:
        """Each with `role`, `name`, `line` (its drawn course, (m, 3)) and `exact`, what the file says."""

class Table(Data):
    """A table: columns of one length."""

    @property
    def columns(self) -> Mapping[str, NDArray[Any]]:
        """Values by heading; texts are text."""
    @property
    def units(self) -> Mapping[str, str]:
        """Unit of each column, empty where it has none."""
    @property
    def rows(self) -> tuple[dict[str, Any], ...]:
        """Each row, by heading."""

def accuracy(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    points: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    by: str | Path = ...,
    blunder: float = ...,
    survey: _Length | None = ...,
    progress: Told | None = ...,
) -> Table:
    """Compares independent check points with a surface: residuals, RMSEz and accuracy at 95 % by the published standards."""

def align(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    like: Data | Sequence[Data] = ...,
    method: Literal["linear", "natural", "idw", "lowest", "highest", "mean", "median", "count"] = ...,
    progress: Told | None = ...,
) -> Grid:
    """Heights of a surface or of points at the cells of another grid: the same corner, size, rows and columns."""

def along(
    *inputs: Data,
    lines: Data | Sequence[Data] = ...,
    surface: Data | Sequence[Data] = ...,
    spacing: _Length | None = ...,
    corners: bool = ...,
    progress: Told | None = ...,
) -> PointSet:
    """Points at an even distance along lines, with the heights of the lines or of a surface."""

def areas(
    *inputs: Data,
    lines: Data | Sequence[Data] = ...,
    close: _Length | None = ...,
    progress: Told | None = ...,
) -> Areas:
    """Closed lines as areas: one inside another on the same layer is a hole in it."""

def arrows(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    spacing: _Length | None = ...,
    level: _Length | _Row = ...,
    progress: Told | None = ...,
) -> Linework:
    """Arrows at an even spacing that point down the slope, with their slope and bearing."""

def aspect(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Grid:
    """The bearing, clockwise from north, that the ground falls towards at each cell; level cells have none. After Horn (1981)."""

def bands(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    interval: _Length | None = ...,
    limits: _Length | _Row | None = ...,
    shares: int | None = ...,
    as_: Literal["polygons", "grid"] = ...,
    progress: Told | None = ...,
) -> Areas:
    """The surface divided by height, or a grid by its values, such as slope: areas, or a grid."""

def between(
    *inputs: Data,
    stages: Data | Sequence[Data] = ...,
    inside: Data | Sequence[Data] = ...,
    boundaries: str | Path = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Table:
    """Cut and fill from each of several surfaces to every later one, in the order in which they are given."""

def cells(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Grid:
    """A grid with a cell at every point of a regular grid of points, its height unchanged."""

def clean(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    log: _Length | _Row = ...,
    progress: Told | None = ...,
) -> Any:
    """Points deleted, kept or given a class by areas drawn in the plan, in a section or in 3D: a log of lines, replayed when the points change."""

def choose(
    *inputs: Data,
    areas: Data | Sequence[Data] = ...,
    at: _Length | _Row | None = ...,
    by: str | Path = ...,
    named: str | Path = ...,
    side: Literal["kept", "out"] = ...,
    progress: Told | None = ...,
) -> Any:
    """The areas at places, or those that an attribute names, kept alone or left out."""

def clip(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    side: Literal["inside", "outside"] = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Any:
    """What lies inside or outside closed lines: triangles and lines are cut exactly at the edge."""

def compare(
    *inputs: Data,
    old: Data | Sequence[Data] = ...,
    new: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Table:
    """How far one surface lies above another where there are both: largest, RMSE, mean, 95 %."""

def contours(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    interval: _Length | None = ...,
    base: _Length | None = ...,
    index: int = ...,
    lowest: _Length | None = ...,
    highest: _Length | None = ...,
    levels: _Length | _Row | None = ...,
    shortest: _Length | None = ...,
    smooth: Literal["none", "light", "medium", "strong"] = ...,
    held: bool = ...,
    weed: _Length | None = ...,
    supplementary: _Length | _Row | None = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Contours:
    """Level lines of a TIN or grid, chained, with higher ground on the left."""

def courses(
    *inputs: Data,
    records: Data | Sequence[Data] = ...,
    layers: Literal["role", "name"] = ...,
    progress: Told | None = ...,
) -> Linework:
    """Alignments, parcels, plan features and trajectories, as lines on layers."""

def daylight(
    *inputs: Data,
    line: Data | Sequence[Data] = ...,
    surface: Data | Sequence[Data] = ...,
    cut: _Length | _Row = ...,
    fill: _Length | _Row = ...,
    side: Literal["outside", "inside", "right", "left", "both"] | None = ...,
    corners: Literal["square", "round"] = ...,
    level: _Length | None = ...,
    bench: _Length | None = ...,
    width: _Length | None = ...,
    lines: _Length | None = ...,
    gives: Literal["slopes", "ground", "limit", "lines"] = ...,
    progress: Told | None = ...,
) -> Tin:
    """Slopes from a line or the edge of a pad to the ground, in cut and in fill: their TIN, the ground with them, the daylight line, or slope lines."""

def difference(
    *inputs: Data,
    base: Data | Sequence[Data] = ...,
    top: Data | Sequence[Data] = ...,
    as_: Literal["tin", "grid"] | None = ...,
    cell: _Length | None = ...,
    progress: Told | None = ...,
) -> Tin:
    """How far a surface lies above another, as a surface of its own: exact between TINs, or by cells."""

def edit(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    log: _Length | _Row = ...,
    near: _Length | None = ...,
    progress: Told | None = ...,
) -> Tin:
    """A TIN with edits made by hand: a log of lines, replayed by coordinates when what it is made from changes."""

def facets(
    *inputs: Data,
    grid: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Tin:
    """A TIN with a vertex at the centre of every cell that has a height."""

def fit(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    from_: Data | Sequence[Data] = ...,
    to: Data | Sequence[Data] = ...,
    model: Literal["shift", "helmert", "helmert_fixed", "affine", "helmert_3d"] = ...,
    heights: Literal["auto", "shift", "plane", "none"] = ...,
    by: str | Path = ...,
    blunder: float = ...,
    drop: bool = ...,
    keep: str | Path = ...,
    using: str | Path = ...,
    inverse: bool = ...,
    progress: Told | None = ...,
) -> Any:
    """Data from a local grid onto known points: shift, turn and scale by least squares, with residuals at every point."""

def grid(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    cell: _Length | None = ...,
    method: Literal["linear", "natural", "idw", "lowest", "highest", "mean", "median", "count"] | None = ...,
    classes: _Length | _Row | None = ...,
    area: _Length | _Row | None = ...,
    fill: _Length | None = ...,
    progress: Told | None = ...,
) -> Grid:
    """Heights at the centres of regular cells: of a surface, or from the points in each cell."""

def ground(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    preset: Literal["open", "wooded", "built"] = ...,
    cell: _Length | None = ...,
    window: _Length | None = ...,
    slope: float | None = ...,
    height: _Length | None = ...,
    scale: float | None = ...,
    noise: _Length | None = ...,
    progress: Told | None = ...,
) -> Any:
    """Sets the class of each point to ground or not, by a morphological filter; no point is dropped."""

def hillshade(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    azimuth: float = ...,
    altitude: float = ...,
    suns: int = ...,
    exaggeration: float = ...,
    progress: Told | None = ...,
) -> Grid:
    """Light on each cell: 255 times the cosine between the sun and the ground's normal after Horn (1981), 0 where it is dark."""

def heights(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    add: _Length | None = ...,
    times: float | None = ...,
    geoid: str | Path = ...,
    to: Literal["orthometric", "ellipsoidal"] | None = ...,
    outside: Literal["refuse", "drop"] | None = ...,
    progress: Told | None = ...,
) -> Any:
    """Heights raised or lowered, multiplied, or brought from the ellipsoid to the geoid and back by a geoid grid."""

def labels(
    *inputs: Data,
    contours: Data | Sequence[Data] = ...,
    height: float | None = ...,
    scale: float | None = ...,
    ground: _Length | None = ...,
    only: Literal["index", "all"] | None = ...,
    decimals: int | None = ...,
    spacing: _Length | None = ...,
    first: _Length | None = ...,
    ends: bool = ...,
    placed: Literal["gap", "on", "above"] = ...,
    facing: Literal["reader", "uphill"] = ...,
    shortest: _Length | None = ...,
    along: _Length | _Row | None = ...,
    depressions: bool = ...,
    moved: _Length | _Row = ...,
    progress: Told | None = ...,
) -> Any:
    """The levels written along contours: never over each other, none on a sharp bend."""

def lattice(
    *inputs: Data,
    ground: Data | Sequence[Data] = ...,
    spacing: _Length | None = ...,
    degrees: float | None = ...,
    area: _Length | _Row | None = ...,
    elevations: Literal["surface", "service", "simulated"] = ...,
    service: str | Path = ...,
    progress: Told | None = ...,
) -> PointSet:
    """Points at an even spacing over an area, with elevations from a surface or from an elevation service."""

def lay(
    *inputs: Data,
    lines: Data | Sequence[Data] = ...,
    surface: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Any:
    """Lines with the heights of a surface: a vertex wherever it bends below them, their own vertices kept in plan."""

def levels(
    *inputs: Data,
    lines: Data | Sequence[Data] = ...,
    interval: _Length | None = ...,
    index: int = ...,
    progress: Told | None = ...,
) -> Contours:
    """Level lines, each of one height, as contours, with index contours by their interval."""

def lines(
    *inputs: Data,
    areas: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Linework:
    """The rims of areas and of their holes as closed lines, with the layer and attributes of their area."""

def merge(
    *inputs: Data,
    ground: Data | Sequence[Data] = ...,
    over: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    keep: Literal["over", "lowest", "highest"] = ...,
    seam: _Length | None = ...,
    offset: _Length | None = ...,
    gap: _Length | None = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Tin:
    """A surface laid over another, or the lower or higher of two, with shared edges where they meet."""

def mosaic(
    *inputs: Data,
    grids: Data | Sequence[Data] = ...,
    overlap: Literal["feather", "first", "mean", "lowest", "highest"] = ...,
    width: _Length | None = ...,
    progress: Told | None = ...,
) -> Grid:
    """Several grids as one, on the cells of the finest."""

def move(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    by: _Length | _Row | None = ...,
    turn: float | None = ...,
    scale: float | None = ...,
    about: str | Path = ...,
    progress: Told | None = ...,
) -> Any:
    """The same data elsewhere: shifted, turned about a place, plan lengths scaled; a grid is sampled anew only where it must be."""

def no_change(
    *inputs: Data,
    first: Data | Sequence[Data] = ...,
    second: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Linework:
    """The line along which two surfaces have the same height."""

def parcels(
    *inputs: Data,
    records: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Areas:
    """The parcels of a survey as areas, each with its name, what the file says of it, and its stated area."""

def records(
    *inputs: Data,
    areas: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> Survey:
    """Each part of an area as a parcel, with its name and its area, its holes as plan features, for LandXML."""

def noise(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    neighbours: int = ...,
    times: float = ...,
    progress: Told | None = ...,
) -> Any:
    """Sets the class of points that stand apart from all others to low noise (7) or high noise (18); no point is dropped."""

def offset(
    *inputs: Data,
    lines: Data | Sequence[Data] = ...,
    by: _Length = ...,
    rise: _Length = ...,
    corners: Literal["square", "round"] = ...,
    progress: Told | None = ...,
) -> Linework:
    """Lines moved sideways in plan by a distance, and up or down."""

def outline(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    length: _Length | None = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Areas:
    """What a TIN, a grid or points cover: the rim with its holes, the outer edges of cells, the convex hull or a closer one."""

def pile(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    inside: Data | Sequence[Data] = ...,
    base: Literal["rim", "plane", "lowest"] = ...,
    boundaries: str | Path = ...,
    area: _Length | _Row | None = ...,
    ground: bool = ...,
    progress: Told | None = ...,
) -> Table:
    """A stockpile or a pond: what lies above and below a base made from the rim of an area."""

def points(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    progress: Told | None = ...,
) -> PointSet:
    """The vertices of a TIN, of a mesh, of lines or contours, or the cell centres of a grid."""

def reproject(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    crs: str | Path = ...,
    progress: Told | None = ...,
) -> Any:
    """The same ground in another coordinate reference system; heights change to another system only where that is certain."""

def scatter(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    number: int = ...,
    seed: int = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> PointSet:
    """Randomly placed points, evenly distributed over a surface, with its heights."""

def simplify(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    tolerance: _Length | None = ...,
    triangles: int | None = ...,
    progress: Told | None = ...,
) -> Tin:
    """A TIN of a surface within a vertical tolerance, or with at most a given number of triangles; outlines, voids, breaklines and no-data stay."""

def slope(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    as_: Literal["percent", "degrees", "ratio"] = ...,
    progress: Told | None = ...,
) -> Grid:
    """How steep the ground is at each cell, after Horn (1981)."""

def solid(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    scale: float | None = ...,
    spacing: float = ...,
    exaggeration: float = ...,
    base: float = ...,
    bed: _Length | _Row = ...,
    tiles: bool = ...,
    area: _Length | _Row | None = ...,
    progress: Told | None = ...,
) -> Mesh:
    """A closed body of the surface with a base, in millimetres at a scale, checked against a printer's bed."""

def sizes(
    *inputs: Data,
    areas: Data | Sequence[Data] = ...,
    ground: bool = ...,
    progress: Told | None = ...,
) -> Table:
    """A table with the area and the perimeter of each area; in degrees by the ellipsoid."""

def stages(
    *inputs: Data,
    surface: Data | Sequence[Data] = ...,
    inside: Data | Sequence[Data] = ...,
    every: _Length | None = ...,
    levels: _Length | _Row | None = ...,
    boundaries: str | Path = ...,
    area: _Length | _Row | None = ...,
    ground: bool = ...,
    progress: Told | None = ...,
) -> Table:
    """Area and volume between the ground and a level surface inside a line, level by level."""

def structures(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    surface: Data | Sequence[Data] = ...,
    height: str | Path = ...,
    shape: Literal["cylinder", "box"] = ...,
    size: _Length = ...,
    above: _Length = ...,
    progress: Told | None = ...,
) -> Mesh:
    """Cylinders or boxes that stand at points, on a surface or above it, as tall as an attribute says."""

def system(
    *inputs: Data,
    data: Data | Sequence[Data] = ...,
    crs: str | Path = ...,
    instead: bool = ...,
    progress: Told | None = ...,
) -> Any:
    """States the coordinate reference system of data whose file does not say it; every coordinate stays as it is."""

def thin(
    *inputs: Data,
    points: Data | Sequence[Data] = ...,
    spacing: _Length | None = ...,
    keep: Literal["lowest", "highest", "mean", "central"] = ...,
    progress: Told | None = ...,
) -> Any:
    """One point of each cell of a lattice: the lowest, the highest, the one nearest to its middle, or their mean."""

def ticks(
    *inputs: Data,
    contours: Data | Sequence[Data] = ...,
    length: _Length | None = ...,
    spacing: _Length | None = ...,
    progress: Told | None = ...,
) -> Linework:
    """Short lines on contours that close around lower ground, pointing down."""

def tin(
    *inputs: Data,
    sources: Data | Sequence[Data] = ...,
    limit: Data | Sequence[Data] = ...,
    max_edge: _Length | None = ...,
    circle: _Length | None = ...,
    rim_length: _Length | _Row | None = ...,
    rim_angle: float | None = ...,
    classes: str | Path = ...,
    boundary: str | Path = ...,
    voids: str | Path = ...,
    islands: str | Path = ...,
    whole: str | Path = ...,
    area: _Length | _Row | None = ...,
    breaklines: str | Path = ...,
    walls: str | Path = ...,
    proximity: str | Path = ...,
    nondestructive: str | Path = ...,
    contours: str | Path = ...,
    weed: _Length | None = ...,
    spacing: _Length | None = ...,
    flats: bool | None = ...,
    heights: Literal["mean", "first", "last", "highest", "lowest"] = ...,
    crossings: Literal["mean", "first", "last", "highest", "lowest", "refuse"] | None = ...,
    offset: _Length | None = ...,
    same_place: _Length | None = ...,
    progress: Told | None = ...,
) -> Tin:
    """Constrained Delaunay triangulation of points, breaklines of every kind and contours, inside one outer boundary and outside voids; a TIN is built anew from its source data, or from its vertices, breaklines and rim."""

def upper(
    *inputs: Data,
    mesh: Data | Sequence[Data] = ...,
    side: Literal["upper", "lower"] = ...,
    progress: Told | None = ...,
) -> Tin:
    """The upper (or lower) side of a mesh with overhangs, or of a closed body, as a TIN."""

def volumes(
    *inputs: Data,
    base: Data | Sequence[Data] = ...,
    top: Data | Sequence[Data] = ...,
    inside: Data | Sequence[Data] = ...,
    boundaries: str | Path = ...,
    area: _Length | _Row | None = ...,
    ground: bool = ...,
    depth: _Length | None = ...,
    swell: float | None = ...,
    shrink: float | None = ...,
    cell: _Length | None = ...,
    sections: _Length | None = ...,
    progress: Told | None = ...,
) -> Table:
    """How much earth lies between two surfaces: exact, and by cells and sections beside it; inside each of some boundaries, and by depth."""

class Job(Mapping[str, Any]):
    """A job that was opened for reading: its cards by name. Use it in a ``with`` block, or close it."""

    @property
    def name(self) -> str:
        """What the job is called."""
    def __enter__(self) -> Self: ...
    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None
    ) -> None: ...
    def close(self) -> None:
        """Let go of the job."""
    def __contains__(self, name: object) -> bool: ...
    def __getitem__(self, name: str) -> Any: ...
    def __iter__(self) -> Iterator[str]: ...
    def __len__(self) -> int: ...

def read(
    *paths: str | Path,
    unit: str | None = None,
    vertical_unit: str | None = None,
    override_units: bool = False,
    progress: Told | None = None,
    **options: Any,
) -> Any:
    """Read files of any known format; return the data in them: one, or a tuple of all."""

def write(
    path: str | Path,
    *data: Data,
    unit: str | None = None,
    vertical_unit: str | None = None,
    progress: Told | None = None,
    **options: Any,
) -> Written:
    """Write data into one file, or a set of them, read it back and compare; the ending says the format."""

def convert(data: Data | Sequence[Data], to: str, *, progress: Told | None = None, **parameters: Any) -> Any:
    """Return what a conversion makes of data: ``convert(points, "tin", max_edge="60 m")``."""

def check(*data: Data, progress: Told | None = None, **thresholds: Mapping[str, Any]) -> tuple[Finding, ...]:
    """Look at data with every check, side by side; thresholds by check, whose hyphens are underscores."""

def run(
    recipe: str | Path,
    files: Mapping[str, str | Path | Sequence[str | Path]],
    into: str | Path,
    *,
    replace: bool = False,
    progress: Told | None = None,
) -> Ran:
    """Run a recipe on files, by the names of its slots."""

def run_tiles(
    paths: str | Path | Sequence[str | Path],
    target: str | Path,
    steps: Sequence[tuple[str, Mapping[str, Any]]],
    *,
    tile: AnyLength | float | str | None = None,
    workers: int = 0,
    cluster: str = "",
    unit: str | None = None,
    vertical_unit: str | None = None,
    reading: Mapping[str, Any] | None = None,
    progress: Told | None = None,
    **options: Any,
) -> tuple[Written, ...]:
    """Read files or folders in parts, convert, and write; the result does not depend on the tiles."""

def open_job(folder: str | Path) -> Job:
    """Open a job's folder to read its cards."""
