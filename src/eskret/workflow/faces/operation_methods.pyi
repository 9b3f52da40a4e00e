"""The operations as methods of a workflow. Made by ``make handbook`` from their settings; a test holds it current."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, TypedDict, Unpack

from eskret.workflow.faces.handles import ParameterHandle, StepHandle

class StepProperties(TypedDict, total=False):
    """What every step may say of itself, as in the file."""

    heading: str
    note: str
    off: bool
    layer: Mapping[str, Mapping[str, object]]
    style: Mapping[str, Mapping[str, object]]
    each: Mapping[str, object]
    result: bool
    totals: Sequence[str]

class OperationMethods:
    def load(
        self,
        id: str,
        entering: tuple[()] = ...,
        /,
        *,
        files: Sequence[str] | ParameterHandle,
        layers: Sequence[str] | ParameterHandle = ...,
        around: StepHandle | str | ParameterHandle = ...,
        parts: Sequence[Literal['waypoints', 'routes', 'route_points', 'tracks', 'track_points']] | Literal['waypoints', 'routes', 'route_points', 'tracks', 'track_points'] | ParameterHandle = ...,
        together: bool | ParameterHandle = ...,
        crs: str | ParameterHandle = ...,
        zone: str | ParameterHandle = ...,
        crs_of: Mapping[str, str] | ParameterHandle = ...,
        encoding: str | ParameterHandle = ...,
        encodings: Mapping[str, str] | ParameterHandle = ...,
        if_unreadable: Literal['stop', 'go on'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Load layers and tables from files, folders, patterns and archives.

        Every layer found becomes one layer of the set: from GPX recordings, GeoPackages, shapefiles,
        GeoJSON, FlatGeobuf, KML, GML and GeoParquet, where a folder with such a name (beds.parquet) is one
        layer made of all files in it. CSV, TSV and the sheets of XLSX come in as tables; codes with leading
        zeros stay text. A zip archive is read as if it were a folder. Where the workflow has a coordinate
        system, layers are brought to it as they come in, and the transformation used is told with its
        accuracy. A GPX recording gives up to five layers: waypoints, routes, route points, tracks and track
        points. From a large file you can take only what lies around another layer; the rest is counted, and
        usually not even read. What this workflow itself wrote is left out of folders and patterns, and
        told, so that a second run reads what the first one read.

        Parameters
        ----------
        files : Sequence[str], must be given
            Files. Files, folders or patterns such as field/*.gpx. A folder stands for the readable files in
            it.
        layers : Sequence[str], default ['*']
            Layers in the files. Which layers of a file with several to take: names or patterns, such as
            lease_*.
        around : StepHandle | str, default ''
            Only around. A layer: only what meets its bounding box is taken from the files; where a file has
            a spatial index, no more is read.
        parts : some of these, default ['waypoints', 'routes', 'route_points', 'tracks', 'track_points']
            Parts of a recording. What to take of a GPX recording. Parts that hold nothing are left out.
            'waypoints': waypoints
            'routes': routes
            'route_points': route points
            'tracks': tracks
            'track_points': track points
        together : bool, default False
            Recordings together. Put like parts of all recordings into one layer each, with a field 'file'
            that says where they came from.
        crs : str, default ''
            CRS where none is declared. For files that do not say their coordinate system. It is never
            guessed.
        zone : str, default ''
            Days in time zone. Adds a field 'day' to points with a time: its date in this zone. A recording
            itself keeps time in UTC.
        crs_of : Mapping[str, str], default {}
            CRS of single files. The same for files that differ from the rest: a file or pattern, and its
            CRS. What a file declares counts.
        encoding : str, default ''
            Encoding where none is declared. For shapefiles and tables that do not say it: utf-8, cp1252,
            cp850, cp1251 ... Left empty, it is detected.
        encodings : Mapping[str, str], default {}
            Encoding of single files. A file or pattern, and what its texts are in, whatever it declares.
        if_unreadable : one of these, default 'stop'
            If a file cannot be read. What to do about a file that is damaged or missing something.
            'stop': stop the run
            'go on': go on without it and say so
        """

    def load_coordinates(
        self,
        id: str,
        entering: tuple[()] = ...,
        /,
        *,
        files: Sequence[str] | ParameterHandle,
        crs: str | ParameterHandle,
        shape: Literal['points', 'lines', 'areas'] | ParameterHandle = ...,
        x: str | ParameterHandle = ...,
        y: str | ParameterHandle = ...,
        z: str | ParameterHandle = ...,
        group: str | ParameterHandle = ...,
        order: str | ParameterHandle = ...,
        delimiter: Literal['', '\t', ';', ',', '|', ' '] | ParameterHandle = ...,
        header: Literal['', 'yes', 'no'] | ParameterHandle = ...,
        decimal: Literal['', '.', ','] | ParameterHandle = ...,
        names: Sequence[str] | ParameterHandle = ...,
        constants: Mapping[str, str] | ParameterHandle = ...,
        encoding: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Read points, lines or areas from text files with coordinates.

        The separator between values, a header, the decimal sign and the encoding are detected in each file,
        and so are the columns of x (or longitude) and y (or latitude) where they have such names; you can
        also state all of it yourself. Degrees can be decimal or in degrees, minutes and seconds. Name the
        coordinate system: it is never guessed. For lines and areas, points of the same group follow each
        other in the order of the file or of an order field; a ring is closed for you. Lines of text that
        cannot be read are set aside and told with their number.

        Parameters
        ----------
        files : Sequence[str], must be given
            Text files. Files, folders or patterns such as text/*.txt.
        crs : str, must be given
            CRS of the coordinates. What the numbers are in. It is never guessed.
        shape : one of these, default 'points'
            Make. One point per line of text, or lines or areas through the points of a group.
            'points': points
            'lines': lines
            'areas': areas
        x : str, default ''
            Column of x or longitude. Its name or number; left empty, it is found.
        y : str, default ''
            Column of y or latitude. Its name or number; left empty, it is found.
        z : str, default ''
            Column of height or depth. Its name or number, if there is one.
        group : str, default ''
            One shape for each. The column whose value tells which points belong together. Left empty, each
            file is one shape.
        order : str, default ''
            In the order of. The column that numbers the points along the shape. Left empty, the order is
            the file's.
        delimiter : one of these, default ''
            Between values. The character that separates the values of a line.
            '': detected in the file
            '\\t': tab
            ';': semicolon
            ',': comma
            '|': bar
            ' ': blanks
        header : one of these, default ''
            First line. Whether the first line names the columns.
            '': detected in the file
            'yes': names the columns
            'no': holds data already
        decimal : one of these, default ''
            Decimal sign. What separates whole and fraction in numbers.
            '': detected in the file
            '.': point
            ',': comma
        names : Sequence[str], default []
            Names of the columns. For a file without a header, or instead of its own: the columns' names in
            order.
        constants : Mapping[str, str], default {}
            Fields with one value. Fields to add that hold the same value in every feature, written as name
            = value.
        encoding : str, default ''
            Encoding. Only where texts come out wrong: utf-8, cp1252 ...
        """

    def fetch(
        self,
        id: str,
        entering: tuple[()] = ...,
        /,
        *,
        service: str | ParameterHandle,
        dataset: str | ParameterHandle,
        box: Sequence[float] | ParameterHandle = ...,
        where: Mapping[str, str] | ParameterHandle = ...,
        token_from: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Fetch a published dataset from an OGC API - Features service.

        Name the service's address and the dataset's id. All pages are read, and their number of features is
        held against the count the service states. A box in degrees, or values that properties must have,
        ask for a part. If the service wants a token, keep it in an environment variable and name that; the
        token itself never stands in the workflow.

        Parameters
        ----------
        service : str, must be given
            Address of the service. The landing page of an OGC API - Features service.
        dataset : str, must be given
            Dataset. The id of the collection to fetch.
        box : Sequence[float], default []
            Only within. West, south, east and north in degrees; features that meet it are fetched.
        where : Mapping[str, str], default {}
            Only where. Properties and the value each must have, written as name = value; the service does
            the choosing.
        token_from : str, default ''
            Token in the variable. The name of the environment variable that holds a token, where the
            service wants one.
        """

    def workflow(
        self,
        id: str,
        entering: tuple[()] = ...,
        /,
        *,
        file: str | ParameterHandle,
        values: Mapping[str, object] | ParameterHandle = ...,
        layers: Mapping[str, StepHandle | str] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Use another workflow as one step.

        Its parameters are the settings here, those that are layers included; what it marks as its result
        leaves this step, in memory. Where nothing is marked, that is what it would save. Files are not
        written and nothing is published by it. With rounds it is done once a layer, once a value or once a
        row of a table.

        Parameters
        ----------
        file : str, must be given
            Workflow. The file of the workflow to use. It stays as it is; its parameters are filled in
            below.
        values : Mapping[str, object], default {}
            Its parameters. A value for each parameter; the rest have the file's.
        layers : Mapping[str, StepHandle | str], default {}
            Its layers. For each parameter that is a layer: a layer of this workflow to use in its place.
        """

    def keep(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        where: str | ParameterHandle,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep the features that meet a condition on their fields.

        Write the condition in SQL: name = 'North', desc LIKE 'Pile%', tonnes BETWEEN 5 AND 20, kind IN
        ('a', 'b'), licence IS NOT NULL. A parameter is written with a dollar sign, as in district =
        $district; its value is bound, so quotes in it do no harm. Upper and lower case of field names do
        not matter; in texts they do (ILIKE ignores them). A feature whose condition is unknown, because a
        field in it is empty, is set aside with that reason.

        Parameters
        ----------
        where : str, must be given
            Condition. Features for which this SQL condition is true are kept, the others are set aside.
        """

    def keep_by_place(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        to: StepHandle | str | ParameterHandle,
        relation: Literal['intersects', 'within', 'contains', 'touches', 'crosses', 'overlaps', 'equals', 'disjoint', 'near'] | ParameterHandle = ...,
        distance: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        against: Literal['each', 'whole'] | ParameterHandle = ...,
        edge: bool | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep features by where they lie: inside, touching, crossing or near those of another layer.

        The relations are those of OGC Simple Features (DE-9IM): a feature can lie within an area, intersect
        it, contain, touch, cross, overlap or equal it, or lie apart from it. A distance carries its unit;
        in a geographic coordinate system it is measured in a projection laid around each feature compared
        with, never in degrees. A layer in another coordinate system is brought over for the comparison
        only. Features are kept whole; nothing is cut.

        Parameters
        ----------
        to : StepHandle | str, must be given
            Compare with. The layer of another step whose features say where: step, or step:layer.
        relation : one of these, default 'intersects'
            Features that. The relations are those of OGC Simple Features; 'within a distance' measures in
            the unit you name.
            'intersects': intersect it
            'within': lie within it
            'contains': contain it
            'touches': touch it, edges only
            'crosses': cross it
            'overlaps': overlap it
            'equals': equal it
            'disjoint': lie apart from it
            'near': lie within a distance of it
        distance : str, default ''
            Distance. With its unit: m, km, ft, mi, nmi. Exactly that far still counts.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        against : one of these, default 'each'
            Compared with. A feature across the border of two neighbours is within neither of them, but
            within the whole.
            'each': each of its features
            'whole': all of it as one shape
        edge : bool, default True
            The edge belongs to it. A point right on the edge counts as within. Without this it does not, as
            the standard's 'within' has it.
        """

    def pick(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        features: Sequence[object] | ParameterHandle,
        key: str | ParameterHandle = ...,
        take: Literal['these', 'all but these'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep the features picked by hand on the map or in the table, or all but those.

        They are remembered by the values of a key field, so that the same features are found again when the
        data changes. Without a key field the numbers that the source itself gives its features are used;
        those can shift when the file is written anew, so the step then asks for a look. Features that are
        no longer found are told.

        Parameters
        ----------
        features : Sequence[object], must be given
            Features. Values of the key field (or the source's numbers) of the features picked.
        key : str, default ''
            Key field. A field that has another value in every feature. Left empty, the source's own numbers
            are used.
        take : one of these, default 'these'
            Keep. Whether the features picked stay or go.
            'these': these features
            'all but these': all but these
        """

    def take_rows(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        which: Literal['first', 'every', 'random'] | ParameterHandle = ...,
        number: int | ParameterHandle = ...,
        within: Sequence[str] | ParameterHandle = ...,
        seed: int | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep the first rows, every n-th row, or some drawn at random.

        Rows count in the order in which they come; sort them first where another order is meant. Groups are
        counted each by itself, such as the three largest beds of every district. Rows drawn at random are
        the same ones each time, as long as the seed and the number of rows are the same; another seed draws
        others.

        Parameters
        ----------
        which : one of these, default 'first'
            Take. Which rows stay; the others are set aside.
            'first': the first rows
            'every': every n-th row, from the first on
            'random': rows drawn at random
        number : int, default 10
            How many. So many rows; of every n-th row the n: 10 takes one in ten.
        within : Sequence[str], default []
            In each group. Rows with the same values in these are counted by themselves.
        seed : int, default 1
            Seed. The same seed draws the same rows again.
        """

    def sketch(
        self,
        id: str,
        entering: tuple[()] = ...,
        /,
        *,
        shapes: str | ParameterHandle,
        crs: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Points, lines or areas drawn on the map or typed, kept in the workflow itself.

        They are written as GeoJSON (RFC 7946): a geometry, a feature or a collection of features, whose
        properties become fields. Coordinates are longitude and latitude unless another coordinate system is
        named; what is drawn on the map names that of the map. Use it for an area to clip or choose by that
        is in no file.

        Parameters
        ----------
        shapes : str, must be given
            Shapes. GeoJSON text. Draw on the map to fill it in.
        crs : str, default 'EPSG:4326'
            CRS of the coordinates. Longitude and latitude by default, as GeoJSON has it.
        """

    def drop_repeats(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        fields: Sequence[str] | ParameterHandle = ...,
        geometry: bool | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep one of each set of duplicate features, compared by fields, geometry or both.

        Features repeat each other when all the fields named hold the same values, an empty value being the
        same as another empty one, and, if geometry counts, when they draw the same shape: the same
        vertices, wherever a ring begins and whichever way it runs. The first in the layer's order is kept;
        the later ones are set aside.

        Parameters
        ----------
        fields : Sequence[str], default []
            Fields that repeat. Features are repeats when all of these hold the same values.
        geometry : bool, default False
            The same shape. Whether they must also draw the same shape.
        """

    def clip(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        to: StepHandle | str | ParameterHandle,
        edge: Literal['cut', 'whole'] | ParameterHandle = ...,
        sliver: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Cut layers to an area and keep what lies inside.

        The area is the joined outline of all areas of the layer named. Lines and areas are cut at its edge;
        points are kept or set aside whole, and one right on the edge is kept. A feature that comes apart
        stays one feature of several parts. What only touches the edge is set aside. Fields are kept as they
        are; a field that holds a length or an area is not measured anew, so use Measure after this. What
        was cut away is told for each feature and in total.

        Parameters
        ----------
        to : StepHandle | str, must be given
            Area to keep. Polygons whose joined outline is kept: step, or step:layer.
        edge : one of these, default 'cut'
            Features across the edge. Lines and areas can be cut at the edge, or stay whole if any of them
            lies there.
            'cut': are cut at it
            'whole': stay whole
        sliver : str, default ''
            Smallest piece. Cut pieces smaller than this are left out: an area such as 1 m2 for areas, a
            length such as 0.5 m for lines.
        """

    def erase(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: StepHandle | str | ParameterHandle,
        edge: Literal['cut', 'whole'] | ParameterHandle = ...,
        sliver: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Cut an area out of layers and keep what lies outside.

        The opposite of Clip: the joined outline of the layer named is taken out of every feature. Points on
        its edge belong to it and are set aside. A feature that comes apart stays one feature of several
        parts; one of which nothing is left is set aside.

        Parameters
        ----------
        by : StepHandle | str, must be given
            Area to take out. Polygons whose joined outline is taken out: step, or step:layer.
        edge : one of these, default 'cut'
            Features across the edge. Lines and areas can be cut at the edge, or stay whole if any of them
            lies there.
            'cut': are cut at it
            'whole': stay whole
        sliver : str, default ''
            Smallest piece. Cut pieces smaller than this are left out: an area such as 1 m2 for areas, a
            length such as 0.5 m for lines.
        """

    def dissolve(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle = ...,
        figures: Mapping[str, str] | ParameterHandle = ...,
        empty: Literal['aside', 'group'] | ParameterHandle = ...,
        parts: Literal['together', 'apart'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Merge features that share values into one, with counts and sums of what went in.

        Name the fields whose values decide; without any, everything becomes one feature. Shared edges
        disappear, holes and gaps between neighbours stay and are told. Areas and lines that lie on each
        other are counted once and the overlap is told, so that area (or length) in = out + overlap. Figures
        are new fields made of the old: tonnes = sum tonnes, or depth = mean depth_m. Other fields are not
        kept; take them along with first, or list for all different values.

        Parameters
        ----------
        by : Sequence[str], default []
            By the values of. Features with the same values in all of these become one.
        figures : Mapping[str, str], default {}
            Figures. New field = figure and field: sum, mean, min, max, count, first, last, list, sd, median
            or distinct.
        empty : one of these, default 'aside'
            If the value is empty. Features that have no value in a field they are put together by.
            'aside': set the feature aside
            'group': put those together too
        parts : one of these, default 'together'
            Parts that do not touch. Whether a group that lies in several places stays one feature, or
            becomes one for each place with its own figures.
            'together': stay one feature
            'apart': become features of their own
        """

    def split(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle,
        name: str | ParameterHandle = ...,
        empty_as: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Split a layer into one layer for each value of a field.

        Each new layer is called after its value, cleaned by the naming rule; two values that come out the
        same are numbered, and the value as it stands in the data stays with the layer. Several fields make
        a layer for each combination. The set flows on through later steps as one; name one of its layers as
        step:value. Features without a value are set aside, unless you give them a name.

        Parameters
        ----------
        by : Sequence[str], must be given
            By the values of. A layer is made for each value; with several fields, for each combination.
        name : str, default '{value}'
            Layer name. How each layer is called: {value}, {layer}, {n} and parameters are filled in, then
            the name is cleaned.
        empty_as : str, default ''
            Name without a value. The layer for features whose value is empty. Left blank, they are set
            aside with that reason.
        """

    def split_by_area(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        areas: StepHandle | str | ParameterHandle,
        name_field: str | ParameterHandle,
        same_name: Literal['together', 'each'] | ParameterHandle = ...,
        empty_as: str | ParameterHandle = ...,
        across: Literal['centre', 'most', 'cut'] | ParameterHandle = ...,
        name: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Split a layer into one layer for each area of another, named after a field of the areas.

        A feature across a border goes to the area that holds its centre, or the most of it, or is cut at
        the border so that each area gets its piece. What lies in no area is set aside. Where areas lie on
        each other a feature can lie in two: it goes to the first of them, or with the cut to both, and the
        step says how many.

        Parameters
        ----------
        areas : StepHandle | str, must be given
            Areas. The areas to split by: step, or step:layer.
        name_field : str, must be given
            Field with their name. The field of the areas that names the new layers.
        same_name : one of these, default 'together'
            Areas of one name. Whether areas that are called the same make one layer.
            'together': make one layer
            'each': make one each, numbered
        empty_as : str, default ''
            Name without a value. The layer for what lies in areas whose name is empty. Left blank, it is
            set aside with that reason.
        across : one of these, default 'centre'
            A feature across a border. Which layer it goes to.
            'centre': goes where its centre lies
            'most': goes where most of it lies
            'cut': is cut at the border
        name : str, default '{value}'
            Layer name. How each layer is called: {value} is the area's name; {layer}, {n} and parameters
            are filled in too.
        """

    def overlay(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        other: StepHandle | str | ParameterHandle,
        keep: Literal['both', 'either', 'one', 'first'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Overlay another layer: cut both where they cross and keep the fields of both.

        In both: the pieces that two features have in common. In either: those, and what is left of each
        side. In one only: what is left of each side, without what they have in common. With the other's
        fields: all of this layer, cut where the other crosses it. Lines and points can be laid over areas
        too. Where the other layer's features lie on each other, a piece comes out for each. A field whose
        name is taken gets a number.

        Parameters
        ----------
        other : StepHandle | str, must be given
            Other layer. The areas to lay over: step, or step:layer.
        keep : one of these, default 'both'
            Keep what lies in. Which of the pieces leave.
            'both': both layers
            'either': either of them
            'one': one of them only
            'first': this layer, with the other's fields
        """

    def merge(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        fields: Literal['all', 'common'] | ParameterHandle = ...,
        source: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Put the features of several layers into one layer.

        A field says which layer each came from. Take all fields, empty where a layer lacks one, or only
        those that all have. Where layers disagree on the type of a field, numbers become decimal and
        anything else text. Layers in other coordinate systems are brought to that of the first.

        Parameters
        ----------
        fields : one of these, default 'all'
            Fields. Which fields the merged layer has.
            'all': all that any layer has
            'common': those that all layers have
        source : str, default 'layer'
            Field for the layer. A new field that says which layer a feature came from. Left empty, there is
            none.
        """

    def reproject(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        crs: str | ParameterHandle,
        tolerance: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Bring layers to another coordinate system.

        Of the ways that lead there, the best for the layer's own place is taken; the step says which, and
        how accurate it is. Where a better one would need a grid that this machine does not have, or where
        the layer lies outside the area for which the system is meant, the step asks for a look. Shapes are
        cut where the new system comes apart, as at 180 degrees, and joined where it does not; what has no
        place in it is set aside. Heights and measures are left as they are: no vertical datum is changed.

        Parameters
        ----------
        crs : str, must be given
            To CRS. The coordinate system wanted.
        tolerance : str, default ''
            Keep the course of edges within. Straight edges bend on the way: corners are added so that none
            is off by more than this. Left empty, none are added.
        """

    def declare_crs(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        crs: str | ParameterHandle,
        which: Literal['missing', 'all'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Say which coordinate system a layer has; its coordinates stay as they are.

        For layers that came without one, or that declare the wrong one. Nothing is moved: to bring a layer
        to another system, use Reproject. A layer that declares another system keeps it unless you say that
        this one counts instead, and then the step asks for a look. Coordinates that cannot be of the system
        stop the run.

        Parameters
        ----------
        crs : str, must be given
            CRS. The system that the coordinates are in.
        which : one of these, default 'missing'
            For layers that. Whether what a layer declares is overruled.
            'missing': declare none
            'all': declare none or another
        """

    def buffer(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        distance: str | ParameterHandle,
        side: Literal['both', 'left', 'right'] | ParameterHandle = ...,
        ends: Literal['round', 'flat', 'square'] | ParameterHandle = ...,
        corners: Literal['round', 'mitre', 'bevel'] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        steps: int | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Draw the area within a distance of each feature.

        The distance carries its unit. Where coordinates are degrees it is taken along the ellipsoid, and
        the step says how accurate it is; areas across 180 degrees or about a pole come out in parts that
        meet there. Areas grow, or shrink by a distance below zero; of one that vanishes nothing is left and
        it is set aside. Buffers of neighbours stay apart; Dissolve joins them.

        Parameters
        ----------
        distance : str, must be given
            Distance. With its unit, such as 200 m; below zero, areas shrink.
        side : one of these, default 'both'
            Side of lines. As seen by somebody who goes along the line. One side alone ends flat.
            'both': both
            'left': only the left
            'right': only the right
        ends : one of these, default 'round'
            Ends of lines. How the area ends where a line does.
            'round': round
            'flat': cut off at the end
            'square': reach beyond it, square
        corners : one of these, default 'round'
            Corners. How the area goes round a corner.
            'round': round
            'mitre': pointed
            'bevel': cut off
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        steps : int, default 16
            Steps of a quarter circle. With 16, a circle's area comes out 0.2 % too small; with 64, 0.01 %.
        """

    def zones(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        distances: str | ParameterHandle,
        whole: bool | ParameterHandle = ...,
        field: str | ParameterHandle = ...,
        ends: Literal['round', 'flat', 'square'] | ParameterHandle = ...,
        corners: Literal['round', 'mitre', 'bevel'] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        steps: int | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Draw zones around each feature: the areas within several distances, one about the other.

        Each zone is a feature with the fields of what it surrounds and its outer distance in metres. Zones
        leave out what is nearer, so that they lie beside each other like the rings of a tree; the innermost
        holds the feature itself. Or each is the whole area within its distance. For zones about all
        features at once, dissolve these first.

        Parameters
        ----------
        distances : str, must be given
            Distances. With commas. Each has its unit, or that of the next one that has one: 100, 250, 500
            m.
        whole : bool, default False
            Whole areas. Whether each zone also covers what lies nearer, instead of leaving it to the inner
            ones.
        field : str, default 'zone_m'
            Field for the distance. The new field, with the outer distance in metres.
        ends : one of these, default 'round'
            Ends of lines. How the area ends where a line does.
            'round': round
            'flat': cut off at the end
            'square': reach beyond it, square
        corners : one of these, default 'round'
            Corners. How the area goes round a corner.
            'round': round
            'mitre': pointed
            'bevel': cut off
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        steps : int, default 16
            Steps of a quarter circle. With 16, a circle's area comes out 0.2 % too small; with 64, 0.01 %.
        """

    def centre_points(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        where: Literal['on', 'mass'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Replace each feature by a point at its centre.

        The centre of mass can lie outside a bent area or beside a bent line; the other choice is always on
        the feature: a point well inside an area, the middle of a line's length. Fields are kept.

        Parameters
        ----------
        where : one of these, default 'on'
            Where. Where the point of each feature lies.
            'on': on the feature
            'mass': at its centre of mass
        """

    def outlines(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        holes: bool | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Turn each area into the line around it.

        Holes have outlines too, and belong to the same feature unless you leave them out. Neighbours keep a
        line each where they meet. Features that are no areas are set aside.

        Parameters
        ----------
        holes : bool, default True
            With those of holes. Whether holes are drawn around too.
        """

    def corner_points(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        number: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Place a point at every corner of lines and areas.

        Each point has the fields of its feature and its number along it, from 1. The corner that closes a
        ring is the one that began it, and is made once. Heights are kept.

        Parameters
        ----------
        number : str, default 'corner'
            Field for the number. The new field that numbers the corners of a feature.
        """

    def snap_points(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        to: StepHandle | str | ParameterHandle,
        within: str | ParameterHandle,
        onto: Literal['edge', 'corner'] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        others: Literal['leave', 'aside'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Move points onto the nearest line or edge of another layer.

        Only points within the distance are moved, each by the shortest way; how far each was moved is
        listed. The others stay where they are, or are set aside. Fields, heights and measures stay with
        their points. A point that lies on it already does not move.

        Parameters
        ----------
        to : StepHandle | str, must be given
            Lines. The lines or areas to move to: step, or step:layer.
        within : str, must be given
            Within. Points that are further away are not moved.
        onto : one of these, default 'edge'
            Onto. An area is taken for the line around it.
            'edge': the nearest place on the line
            'corner': the nearest corner of the line
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        others : one of these, default 'leave'
            Points that are too far. Either way they are counted.
            'leave': stay where they are
            'aside': are set aside
        """

    def points_along(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        place: Literal['every', 'shares'] | ParameterHandle = ...,
        every: str | ParameterHandle = ...,
        shares: str | ParameterHandle = ...,
        last: bool | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        number: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Place points along lines: at even distances, or at shares of their length.

        Distances are counted from the beginning of each line, along its course; a line of several parts is
        counted part by part. Each point has the fields of its line, its number and how far along it lies.
        Areas have outlines: make these first.

        Parameters
        ----------
        place : one of these, default 'every'
            Place points. Whether distances are counted, or parts of the whole.
            'every': at even distances
            'shares': at shares of the length
        every : str, default '100 m'
            Distance. Between two points, with its unit.
        shares : str, default '50'
            Shares. In per cent of the length, with commas: 50 is the middle.
        last : bool, default False
            Also at the end. Whether the end of a line has a point too.
        along : one of these, default 'fitting'
            Length along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        number : str, default 'number'
            Field for the number. The new field that numbers the points.
        """

    def snap_shapes(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        to: StepHandle | str | ParameterHandle,
        within: str | ParameterHandle,
        onto: Literal['both', 'corners', 'edges'] | ParameterHandle = ...,
        add: bool | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Snap shapes onto another layer: corners and edges that nearly meet it come to meet it.

        For districts that should follow a coast, or layers that were drawn from different maps. Corners
        within the distance move to the nearest corner there, or else onto the nearest edge; and corners are
        put into edges where one of the other layer is near, so that no gaps or slivers stay between.
        Neighbours that share an edge go on sharing it. A shape that would cross itself stays as it was, and
        the step asks for a look.

        Parameters
        ----------
        to : StepHandle | str, must be given
            Onto. The layer to meet: step, or step:layer.
        within : str, must be given
            Within. Corners that are further away are not moved.
        onto : one of these, default 'both'
            Move to. What corners within the distance move to.
            'both': the nearest corner, or else the nearest edge
            'corners': corners only
            'edges': the nearest place on an edge
        add : bool, default True
            Put in corners. Whether edges that pass a corner of the other layer within the distance are led
            through it.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        """

    def separate_parts(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        number: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Split features of several parts into one feature for each part.

        A group of islands that is one feature becomes one feature per island, each with all the fields. A
        field that holds a total (a sum, an area) then stands in every part; adding it up counts it several
        times, and the step says how many features came apart.

        Parameters
        ----------
        number : str, default ''
            Field for the number. A new field that numbers the parts of a feature from 1. Left empty, there
            is none.
        """

    def gather_parts(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle = ...,
        figures: Mapping[str, str] | ParameterHandle = ...,
        empty: Literal['aside', 'group'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Combine features with the same values into one of several parts, as they are drawn.

        Nothing is joined or cut: shared edges stay, and areas on each other stay on each other. Use
        Dissolve to join them. Figures are new fields made of the old, as in Dissolve.

        Parameters
        ----------
        by : Sequence[str], default []
            By the values of. Features with the same values in all of these become one.
        figures : Mapping[str, str], default {}
            Figures. New field = figure and field: sum, mean, min, max, count, first, last, list, sd, median
            or distinct.
        empty : one of these, default 'aside'
            If the value is empty. Features that have no value in a field they are put together by.
            'aside': set the feature aside
            'group': put those together too
        """

    def fill_holes(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        largest: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Fill the holes of areas, all of them or only those up to a size.

        What stood in a hole that is filled, as an island in a lake, becomes part of the area around it.
        Holes between features are none of one feature: Dissolve joins the neighbours first, Check finds
        such gaps. Points and lines stay as they are.

        Parameters
        ----------
        largest : str, default ''
            Only holes up to. An area with its unit. Larger holes stay. Left empty, all are filled.
        """

    def absorb(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        below: str | ParameterHandle,
        same: Sequence[str] | ParameterHandle = ...,
        add_up: Sequence[str] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Let small areas be taken in by the neighbour they share most edge with.

        For the slivers that overlaying and cutting leave, and for plots too small to show. The neighbour
        keeps its fields; fields that are added up get the sum of all that went in. The smallest go first,
        so that several small ones may first become one. What has no neighbour by an edge stays as it is,
        and the step asks for a look.

        Parameters
        ----------
        below : str, must be given
            Smaller than. An area with its unit; what is smaller is taken in.
        same : Sequence[str], default []
            Only with the same. A neighbour must have the same values in these fields.
        add_up : Sequence[str], default []
            Added up. Fields of numbers that get the sum of all that went in.
        """

    def simplify(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        tolerance: str | ParameterHandle,
        shared: bool | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Remove corners that hardly change the course of lines and areas.

        Each feature by itself: no corner left out lies further than the tolerance from what is drawn
        instead (Douglas and Peucker), and no area crosses itself. With shared edges kept shared, neighbours
        are simplified together and stay neighbours without gaps; corners whose triangle is smaller than the
        tolerance squared go (Visvalingam and Whyatt).

        Parameters
        ----------
        tolerance : str, must be given
            Tolerance. How far the course may change, with its unit.
        shared : bool, default False
            Keep shared edges shared. For areas that meet exactly, such as districts: neighbours get the
            same new edge.
        along : one of these, default 'fitting'
            Tolerance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        """

    def densify(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        longest: str | ParameterHandle,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Add corners to lines and areas so that no segment is longer than a given length.

        The course stays the same, and all existing vertices stay. Use it before reprojecting long straight
        lines, which would otherwise take a short cut where they ought to follow a curve.

        Parameters
        ----------
        longest : str, must be given
            Longest segment. Between two corners, with its unit.
        along : one of these, default 'fitting'
            Length along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        """

    def hull(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        shape: Literal['convex', 'concave', 'box', 'turned box', 'circle'] | ParameterHandle = ...,
        around: Literal['each', 'group'] | ParameterHandle = ...,
        by: Sequence[str] | ParameterHandle = ...,
        closeness: int | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Draw the shape around each feature, or around all of a group.

        Around everything without a dent, along the dents, as an upright box, as the smallest turned box, or
        as the smallest circle. Points of one survey day become the area surveyed when you name the field of
        the day. What encloses no area, such as two points, is set aside.

        Parameters
        ----------
        shape : one of these, default 'convex'
            Shape. How closely the shape follows what it is drawn around.
            'convex': without dents
            'concave': along the dents
            'box': upright box
            'turned box': smallest turned box
            'circle': smallest circle
        around : one of these, default 'each'
            Around. With a group and no field, one shape goes around everything.
            'each': each feature
            'group': all of a group
        by : Sequence[str], default []
            By the values of. A shape is drawn around all features with the same values.
        closeness : int, default 30
            How deep dents go. In per cent: 0 follows every dent, 100 none.
        """

    def connect_points(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle = ...,
        order: str | ParameterHandle = ...,
        shape: Literal['line', 'closed', 'area'] | ParameterHandle = ...,
        gap_distance: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        gap_time: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Connect points into lines, one for each value of a field, in a given order.

        A recording arrives as points and is wanted as a line: name the field of the track and the field of
        the time. Where two points in a row are too far apart, or too much time passed, the line ends and
        another begins. The line has the fields it was grouped by, how many points it has, and the first and
        last value it was ordered by. Points that stand alone are set aside.

        Parameters
        ----------
        by : Sequence[str], default []
            A line for each. Points with the same values in these become one line.
        order : str, default ''
            In the order of. The field that orders the points, such as a time. Left empty, they stay in the
            order they have.
        shape : one of these, default 'line'
            Draw. What is drawn through the points.
            'line': a line
            'closed': a line back to its beginning
            'area': the area within
        gap_distance : str, default ''
            Break beyond. Two points in a row further apart than this are not connected.
        along : one of these, default 'fitting'
            Length of legs along. Degrees and the metres of web maps are no true lengths: there the
            ellipsoid is used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        gap_time : str, default ''
            Break after. Two points in a row with more time between than this are not connected: s, min, h
            or d.
        """

    def enclose(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        tolerance: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        points: StepHandle | str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Turn lines that run round an area into that area, closing gaps up to a tolerance.

        Lines are joined end to end, the nearest ends first; both ends move to the middle of the gap, so
        nothing moves further than half the tolerance. Without a tolerance only lines that meet exactly are
        joined. Where several lines meet, every face between them becomes an area. An area has the fields of
        its first line, or those of the point that lies within. What stays open is set aside with its gap;
        Find gaps lists all gaps and proposes a tolerance. A ring inside another becomes an area of its own.

        Parameters
        ----------
        tolerance : str, default ''
            Widest gap to close. Ends of lines that are no further apart are joined. With its unit; left
            empty, no gap is closed.
        along : one of these, default 'fitting'
            Gaps along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is used
            unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        points : StepHandle | str, default ''
            Fields from points. A layer of points: each area gets the fields of the point within it. Left
            empty, those of its first line.
        """

    def cut_lines(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        at: StepHandle | str | ParameterHandle,
        within: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        number: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Cut lines where points lie on them, or near them.

        A point within the distance cuts the line at the place nearest to it; the line itself does not move.
        Each piece keeps the fields of its line and gets its number along it. A point at the end of a line
        cuts nothing. Points that are near no line are told.

        Parameters
        ----------
        at : StepHandle | str, must be given
            At points of. The layer of points that cut.
        within : str, default '0.01 m'
            Points within. How far a point may lie beside the line, with its unit.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        number : str, default 'piece'
            Field for the number. The new field that numbers the pieces of a line.
        """

    def cut_crossings(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        mend: str | ParameterHandle = ...,
        same: Sequence[str] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        number: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Cut lines where they cross or touch, and mend loose ends.

        After it, lines of a layer meet only at their ends, as a network wants it; where they meet, their
        ends are one place to the last digit. Loose ends that stop short of another line, or run a little
        past its end, are moved onto it: up to the distance you give, to the nearest loose end first. Each
        piece keeps the fields of its line and gets its number along it. Heights are not asked: say which
        fields must be the same, such as a level, where bridges must not be cut.

        Parameters
        ----------
        mend : str, default '0.01 m'
            Mend loose ends within. How far an end may be moved to meet another line, with its unit; 0 m
            moves none.
        same : Sequence[str], default []
            Only with the same. Lines meet only lines with the same values in these fields.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        number : str, default 'piece'
            Field for the number. The new field that numbers the pieces of a line.
        """

    def nearest_areas(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        margin: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Draw around each point the area that is nearer to it than to any other point.

        Together they cover a rectangle around all points without gaps or overlaps, and each keeps the
        fields of its point. Clip cuts them to a district afterwards. Of several points at one place the
        first counts. Distances are those of the plane, so the coordinate system must be in units of length.

        Parameters
        ----------
        margin : str, default ''
            Beyond the outermost points. How far the areas go, with its unit. Left empty, a tenth of the
            extent.
        """

    def reverse_lines(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        where: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Reverse the direction of lines: where they ended they begin.

        All of them, or only those for which a condition holds. Heights and measures stay with their
        corners, and the parts of a line in several come in the other order too. Points and areas have no
        direction and stay as they are.

        Parameters
        ----------
        where : str, default ''
            Only where. An SQL condition on the fields. Left empty, all lines are turned.
        """

    def extend_lines(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: str | ParameterHandle,
        ends: Literal['both', 'start', 'end'] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Extend lines straight on, by a length at their ends.

        Each goes on in the direction of its last stretch, with one more corner; heights go on level, and
        measures as evenly as on that stretch. Where coordinates are degrees the length is taken along the
        ellipsoid. Each part of a line in several has ends of its own. Closed lines have none and stay as
        they are. To let ends meet other lines, Cut at crossings mends loose ends.

        Parameters
        ----------
        by : str, must be given
            By. A length with its unit, at each end that is chosen.
        ends : one of these, default 'both'
            At. Where lines go on.
            'both': both ends
            'start': the start
            'end': the end
        along : one of these, default 'fitting'
            Length along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        """

    def offset_lines(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        distance: str | ParameterHandle,
        side: Literal['left', 'right', 'both'] | ParameterHandle = ...,
        corners: Literal['round', 'mitre', 'bevel'] | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        field: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Offset lines to their left, their right, or both: a line beside each, at a distance.

        Left and right are those of somebody who goes along the line from its beginning. Of a bend that is
        tighter than the distance, less or nothing is left inside. Heights and measures stay behind: a line
        beside has none. With both sides each line makes two features, and a field says which is which.

        Parameters
        ----------
        distance : str, must be given
            Distance. With its unit, such as 12 m.
        side : one of these, default 'left'
            Side. As seen by somebody who goes along the line.
            'left': left
            'right': right
            'both': both
        corners : one of these, default 'round'
            Corners. How the line goes round a corner.
            'round': round
            'mitre': pointed
            'bevel': cut off
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        field : str, default 'side'
            Field for the side. The new field that says left or right.
        """

    def grid(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        size: str | ParameterHandle,
        shape: Literal['square', 'hexagon'] | ParameterHandle = ...,
        cover: Literal['features', 'extent'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Cover the extent of a layer with cells of one size.

        Cells are squares or hexagons, laid out from whole multiples of their size, so that the grids of two
        layers fit each other. They are numbered by column and row. You get only the cells that a feature
        touches, or all of the extent. The coordinate system must be in units of length.

        Parameters
        ----------
        size : str, must be given
            Size of a cell. Its side (of a hexagon, from side to side), with its unit.
        shape : one of these, default 'square'
            Shape. Hexagons have six neighbours at one distance.
            'square': squares
            'hexagon': hexagons
        cover : one of these, default 'features'
            Cells. Which cells are made.
            'features': only those that a feature touches
            'extent': all over the extent
        """

    def make_valid(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        dimensions: bool | ParameterHandle = ...,
        long_edges: Literal['drawn', 'short'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Repair invalid shapes, and say what was wrong and where.

        A ring that crosses itself, holes that lie outside, repeated rings: such shapes give wrong areas and
        stop other programs. The mended shape covers what was drawn, every corner kept. Valid features pass
        untouched. What is no area any more after it, such as a sliver that folded onto itself, is left out;
        if nothing of its kind remains, the feature is set aside.

        Parameters
        ----------
        dimensions : bool, default True
            Keep only what is of its kind. Whether points and lines that come out of a mended area are left
            out.
        long_edges : one of these, default 'drawn'
            Edges of more than half a turn. Where coordinates are degrees: from 179 to -179 the drawn way
            goes round the globe, the short one is cut at 180.
            'drawn': stay as they are drawn
            'short': go the short way, over 180 degrees
        """

    def compute(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        field: str | ParameterHandle,
        value: str | ParameterHandle,
        type: Literal['as it comes', 'whole', 'number', 'text', 'yes/no', 'date', 'time'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Compute a field from the others with an SQL expression.

        For example tonnes / area_ha, upper(name), round(depth_m, 1), CASE WHEN depth_m > 20 THEN 'deep'
        ELSE 'shallow' END, coalesce(name, 'unnamed'), extract(year FROM time). A single slash divides with
        decimals, // without; dividing by zero gives an empty value. A parameter is written with a dollar
        sign. A row for which the expression cannot be worked out, such as a text that is no number, gets an
        empty value and is told with the reason.

        Parameters
        ----------
        field : str, must be given
            Field. The field that gets the values. A new name makes a new field; an existing one is
            overwritten.
        value : str, must be given
            Value. An SQL expression over the fields of a row.
        type : one of these, default 'as it comes'
            Type. What the field holds.
            'as it comes': as it comes
            'whole': whole number
            'number': number
            'text': text
            'yes/no': yes/no
            'date': date
            'time': date and time
        """

    def measure(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        what: Sequence[Literal['length', 'area', 'perimeter', 'x', 'y', 'bearing', 'corners', 'parts']] | Literal['length', 'area', 'perimeter', 'x', 'y', 'bearing', 'corners', 'parts'] | ParameterHandle,
        length_unit: Literal['m', 'km', 'ft', 'yd', 'mi', 'nmi', 'US survey ft'] | ParameterHandle = ...,
        area_unit: Literal['m2', 'ha', 'km2', 'ft2', 'acre', 'mi2'] | ParameterHandle = ...,
        called: Mapping[str, str] | ParameterHandle = ...,
        edges: Literal['straight', 'geodesic'] | ParameterHandle = ...,
        how: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Measure length and area in a unit of your choice, which the name of the field says.

        In the plane of the layer's coordinate system, or along the ellipsoid, which is right anywhere on
        the globe. Where coordinates are degrees only the ellipsoid will do: a degree is never taken for a
        length. An edge is straight in the layer's coordinates, as every other step takes it, unless you ask
        for the shortest ways. In the plane, the step says how far the scale of the projection is off at the
        layer's place. Fields are called length_km, area_ha and so on; one that is there is measured anew,
        and you can name a field differently. A mile is 1,609.344 m, a foot 0.3048 m; the US survey foot
        only by its name.

        Parameters
        ----------
        what : some of these, must be given
            Measure. What is measured; a field for each.
            'length': length of lines
            'area': area
            'perimeter': length around areas
            'x': x of the middle
            'y': y of the middle
            'bearing': bearing from begin to end
            'corners': number of corners
            'parts': number of parts
        length_unit : one of these, default 'm'
            Unit of lengths. The unit of lengths; it is part of the field's name.
            'm': m
            'km': km
            'ft': ft
            'yd': yd
            'mi': mi
            'nmi': nmi
            'US survey ft': US survey ft
        area_unit : one of these, default 'ha'
            Unit of areas. The unit of areas; it is part of the field's name.
            'm2': m2
            'ha': ha
            'km2': km2
            'ft2': ft2
            'acre': acre
            'mi2': mi2
        called : Mapping[str, str], default {}
            Names of your own. Written as measure = name of its field; the others are named after measure
            and unit.
        edges : one of these, default 'straight'
            Edges between corners. Where lengths and areas are taken on the ellipsoid. Straight is what
            every other step takes an edge for.
            'straight': straight in the layer's coordinates
            'geodesic': the shortest way on the ellipsoid
        how : one of these, default 'fitting'
            Along. Where lengths and areas are taken.
            'fitting': the plane, or the ellipsoid for degrees
            'planar': the plane
            'geodesic': the ellipsoid
        """

    def flag(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        field: str | ParameterHandle = ...,
        where: str | ParameterHandle = ...,
        to: StepHandle | str | ParameterHandle = ...,
        relation: Literal['intersects', 'within', 'contains', 'touches', 'crosses', 'overlaps', 'equals', 'disjoint', 'near'] | ParameterHandle = ...,
        distance: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        against: Literal['each', 'whole'] | ParameterHandle = ...,
        edge: bool | ParameterHandle = ...,
        value: str | ParameterHandle = ...,
        others: Literal['leave', 'other value', 'empty'] | ParameterHandle = ...,
        other_value: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Mark the features that meet a condition and report their percentage.

        The condition is one on the fields, on the place, or both. Without a value, a yes/no field says of
        every feature whether it holds. With a value, the features for which it holds get that value in the
        field; the others keep what stood there, get another value, or are emptied, as you choose. Features
        of which it cannot be told, because a field asked for is empty, are left as they are. The share is
        of all features, counted, whatever is chosen elsewhere; it stands in the step's totals, so that
        reports and two runs side by side tell it, and 'check' can hold it to limits.

        Parameters
        ----------
        field : str, default 'flag'
            Field. The field that gets the mark. A new name makes a new field.
        where : str, default ''
            Condition. An SQL condition on the fields. With a place named too, both must hold.
        to : StepHandle | str, default ''
            Compare with. The layer of another step whose features say where: step, or step:layer.
        relation : one of these, default 'intersects'
            Features that. The relations are those of OGC Simple Features; 'within a distance' measures in
            the unit you name.
            'intersects': intersect it
            'within': lie within it
            'contains': contain it
            'touches': touch it, edges only
            'crosses': cross it
            'overlaps': overlap it
            'equals': equal it
            'disjoint': lie apart from it
            'near': lie within a distance of it
        distance : str, default ''
            Distance. With its unit: m, km, ft, mi, nmi. Exactly that far still counts.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        against : one of these, default 'each'
            Compared with. A feature across the border of two neighbours is within neither of them, but
            within the whole.
            'each': each of its features
            'whole': all of it as one shape
        edge : bool, default True
            The edge belongs to it. A point right on the edge counts as within. Without this it does not, as
            the standard's 'within' has it.
        value : str, default ''
            Value. What to write where it holds. Left empty, the field says yes or no of every feature.
        others : one of these, default 'leave'
            Where it does not hold. What becomes of the other features, where a value is given for those for
            which it holds.
            'leave': leave what stands there
            'other value': write another value
            'empty': empty the field
        other_value : str, default ''
            Other value. What to write where it does not hold.
        """

    def pace(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        time: str | ParameterHandle,
        by: Sequence[str] | ParameterHandle = ...,
        unit: Literal['km/h', 'm/s', 'kn', 'mph'] | ParameterHandle = ...,
        pause: str | ParameterHandle = ...,
        draw: Literal['legs', 'points'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Distance, time and speed from each point of a track to the next.

        Points are taken in the order of their time, each track by itself. Distances follow the ellipsoid
        where coordinates are degrees. Draw the legs as lines to see the speed on the map, or keep the
        points. Two points at one time have a distance and no speed; points without a time have neither and
        are told. A leg slower than the pause speed counts as a pause. Distance, time, pauses and mean speed
        of each track are told.

        Parameters
        ----------
        time : str, must be given
            Time. The field with the time of each point.
        by : Sequence[str], default []
            A track for each. Points with the same values in these are one track.
        unit : one of these, default 'km/h'
            Unit of speed. It is part of the field's name: speed_kmh, speed_ms, speed_kn or speed_mph.
            'm/s': m/s
            'km/h': km/h
            'kn': kn
            'mph': mph
        pause : str, default '0.5 km/h'
            A pause is slower than. Legs slower than this count as a pause, with its unit: km/h, m/s, kn or
            mph.
        draw : one of these, default 'legs'
            Draw. What leaves: a line for each leg, or the points.
            'legs': the leg to each point
            'points': the points
        """

    def join_table(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        table: StepHandle | str | ParameterHandle,
        key: str | ParameterHandle,
        table_key: str | ParameterHandle = ...,
        fields: Sequence[str] | ParameterHandle = ...,
        alike: Sequence[Literal['types', 'blanks', 'case', 'zeros']] | Literal['types', 'blanks', 'case', 'zeros'] | ParameterHandle = ...,
        several: Literal['first', 'list', 'sum', 'rows', 'repeat'] | ParameterHandle = ...,
        without: Literal['keep', 'aside'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Join the fields of a table to features by a key.

        Both sides are accounted for: features for which the table has no row, and rows that belong to no
        feature. Keys that do not match because one side holds text and the other numbers, because of
        blanks, case or zeros in front are found in the rehearsal, with what would make them match. Where
        the table has several rows for a key, take the first, a list of all different values, their sum, or
        all rows as one text with their number, or repeat the feature for each. A field whose name is taken
        gets a number.

        Parameters
        ----------
        table : StepHandle | str, must be given
            Table. The table (or layer) whose fields are wanted: step, or step:layer.
        key : str, must be given
            Key. The field that holds the key here.
        table_key : str, default ''
            Key in the table. The field of the table that holds the same key. Left empty, it has the same
            name.
        fields : Sequence[str], default []
            Fields to bring. Fields of the table. Left empty, all but its key.
        alike : some of these, default []
            Keys are the same although. What is ignored when keys are compared; the keys themselves stay as
            they are.
            'types': one is text and one a number
            'blanks': blanks differ
            'case': upper and lower case differ
            'zeros': zeros stand in front
        several : one of these, default 'first'
            Several rows with one key. What becomes of rows of the table that have the same key.
            'first': take the first
            'list': list all different values
            'sum': add numbers up, list texts
            'rows': list the rows in one field, and count them
            'repeat': repeat the feature for each
        without : one of these, default 'keep'
            Features without a row. Either way they are counted and listed.
            'keep': stay, with empty fields
            'aside': are set aside
        """

    def join_by_place(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        other: StepHandle | str | ParameterHandle,
        relation: Literal['intersects', 'within', 'contains', 'covered_by', 'touches', 'crosses', 'overlaps', 'most'] | ParameterHandle = ...,
        fields: Sequence[str] | ParameterHandle = ...,
        several: Literal['first', 'list', 'sum', 'repeat'] | ParameterHandle = ...,
        without: Literal['keep', 'aside'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Join the fields of another layer's features by where they lie.

        The district of each mooring, the bed of each sample. The relation is one of OGC Simple Features, or
        most in common: the feature of the other layer that covers the largest part. Where several fit, take
        the first, a list of all different values, the sum, or repeat the feature for each. Both sides are
        accounted for. A field whose name is taken gets a number.

        Parameters
        ----------
        other : StepHandle | str, must be given
            Other layer. The layer whose fields are wanted: step, or step:layer.
        relation : one of these, default 'intersects'
            Features that. How a feature must lie to one of the other layer.
            'intersects': meet
            'within': lie within
            'contains': contain
            'covered_by': lie within, edge counted
            'touches': touch
            'crosses': cross
            'overlaps': overlap
            'most': have most in common with
        fields : Sequence[str], default []
            Fields to bring. Left empty, all of them.
        several : one of these, default 'first'
            Several that fit. What becomes of several that go with one feature.
            'first': take the first
            'list': list all different values
            'sum': add numbers up, list texts
            'repeat': repeat the feature for each
        without : one of these, default 'keep'
            Features without one. Either way they are counted.
            'keep': stay, with empty fields
            'aside': are set aside
        """

    def count_in_areas(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        other: StepHandle | str | ParameterHandle,
        where: Literal['centre', 'meets'] | ParameterHandle = ...,
        field: str | ParameterHandle = ...,
        figures: Mapping[str, str] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Count the features of another layer in each area, with sums and other figures.

        A feature counts where its centre lies, or in every area that it meets. Figures are new fields made
        of the fields of those counted: landed = sum tonnes, or kinds = list kind. What lies in no area, and
        what was counted more than once, is told.

        Parameters
        ----------
        other : StepHandle | str, must be given
            What to count. The layer whose features are counted: step, or step:layer.
        where : one of these, default 'centre'
            A feature counts. A point counts where it lies either way.
            'centre': where its centre lies
            'meets': in every area that it meets
        field : str, default 'count'
            Field for the count. The new field with the number.
        figures : Mapping[str, str], default {}
            Figures. New field = figure and field: sum, mean, min, max, count, first, last, list, sd, median
            or distinct.
        """

    def nearest(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        other: StepHandle | str | ParameterHandle,
        fields: Sequence[str] | ParameterHandle = ...,
        unit: Literal['m', 'km', 'ft', 'yd', 'mi', 'nmi'] | ParameterHandle = ...,
        within: str | ParameterHandle = ...,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        without: Literal['keep', 'aside'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Find the nearest feature of another layer, with its fields and its distance.

        The distance is from edge to edge, zero where they meet, and its field is named after its unit. Name
        a greatest distance to leave out what is too far. Of several at the same distance the first in the
        layer's order is taken. Where coordinates are degrees, the distance is the shortest way along the
        ellipsoid, also over 180 degrees and the poles.

        Parameters
        ----------
        other : StepHandle | str, must be given
            Other layer. The layer in which the nearest is looked for: step, or step:layer.
        fields : Sequence[str], default []
            Fields to bring. Left empty, all of them.
        unit : one of these, default 'm'
            Unit of the distance. It is part of the field's name: distance_m.
            'm': m
            'km': km
            'ft': ft
            'yd': yd
            'mi': mi
            'nmi': nmi
        within : str, default ''
            Within. What is further away does not count. Left empty, any distance does.
        along : one of these, default 'fitting'
            Distance along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is
            used unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        without : one of these, default 'keep'
            Features without one. Either way they are counted.
            'keep': stay, with empty fields
            'aside': are set aside
        """

    def correct(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        key: str | ParameterHandle,
        changes: Sequence[object] | ParameterHandle,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Change single cells of the table: a misspelt name, a wrong number.

        Each change is remembered by the key of its feature, with the old value beside the new one. A cell
        that no longer holds the old value is left as it is and told, so a correction never overwrites what
        somebody else has mended. Features that are no longer found are told too.

        Parameters
        ----------
        key : str, must be given
            Key field. A field that has another value in every feature; the changes are remembered by it.
        changes : Sequence[object], must be given
            Cells changed. Key, field, old and new value of each cell; cells changed in the table are
            written down here.
        """

    def summarise(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle = ...,
        figures: Mapping[str, str] | ParameterHandle = ...,
        empty: Literal['group', 'aside'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Summarise rows by the values of fields, as a table.

        A row for each value, or for each combination of several fields; without any, one row for
        everything. Figures are new fields made of the old: beds = count, tonnes = sum tonnes, deepest = max
        depth_m. Sums are proved against what entered. To keep shapes, use Dissolve.

        Parameters
        ----------
        by : Sequence[str], default []
            By the values of. A row for each value; with several fields, for each combination.
        figures : Mapping[str, str], default {}
            Figures. New field = figure and field: sum, mean, min, max, count, first, last, list, sd, median
            or distinct.
        empty : one of these, default 'group'
            If the value is empty. Rows that have no value in a field they are summed up by.
            'group': it makes a row of its own
            'aside': set the row aside
        """

    def pivot(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle,
        columns: str | ParameterHandle,
        cell: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Turn the values of a field into columns, with a figure in each cell.

        A row for each value of some fields, a column for each value of another, and in the cell the sum,
        the count or another figure of the rows that have both: landings by district and species. Columns
        are called after their value by the naming rule. A cell without any row stays empty.

        Parameters
        ----------
        by : Sequence[str], must be given
            A row for each. Rows with the same values in these become one.
        columns : str, must be given
            A column for each. The field whose values become columns.
        cell : str, default 'count'
            In the cell. A figure: count, or sum, mean, min, max, first, list ... and a field.
        """

    def unpivot(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        columns: Sequence[str] | ParameterHandle,
        name_field: str | ParameterHandle = ...,
        value_field: str | ParameterHandle = ...,
        empty: Literal['keep', 'drop'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Turn columns into rows: one row for each column, with its name and its value.

        The reverse of Pivot: a table with a column for each species or year becomes one with a field for
        the species and a field for the figure. All other fields, and the shape, stand in every row. Numbers
        stay numbers; where columns hold different kinds of values, they become text and the step says so.

        Parameters
        ----------
        columns : Sequence[str], must be given
            Columns. The fields of which each makes a row.
        name_field : str, default 'name'
            Field for the name. The new field with the column's name.
        value_field : str, default 'value'
            Field for the value. The new field with what stood there.
        empty : one of these, default 'drop'
            Where there is no value. What becomes of a column that is empty in a row.
            'keep': make a row all the same
            'drop': make no row
        """

    def sort(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: Sequence[str] | ParameterHandle,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Put the rows of a layer in the order of their values.

        By several fields, the first counting most. Write down after a field for the greatest first: tonnes
        down. Rows whose value is empty come last either way; equal ones keep their order. Formats that
        order rows by place, such as FlatGeobuf, do not keep it.

        Parameters
        ----------
        by : Sequence[str], must be given
            In the order of. Fields, the first counting most; with down after it, the greatest first.
        """

    def number(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        field: str | ParameterHandle = ...,
        within: Sequence[str] | ParameterHandle = ...,
        order: Sequence[str] | ParameterHandle = ...,
        start: int | ParameterHandle = ...,
        increment: int | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Number the features of a layer, or of each group in it, in the order of their values.

        The rows stay where they are; only the numbers follow the order. Without an order they are numbered
        as they stand. Groups are of the values of fields, an empty value a group of its own. Numbers begin
        where you say and go on by as much as you say. An existing field of that name is overwritten.

        Parameters
        ----------
        field : str, default 'number'
            Field. The field that gets the numbers.
        within : Sequence[str], default []
            Start again in each. Fields whose values make groups; each group is numbered for itself.
        order : Sequence[str], default []
            In the order of. Fields, the first counting most; with down after it, the greatest first. None
            numbers rows as they stand.
        start : int, default 1
            First number. The number of the first row of each group.
        increment : int, default 1
            Go on by. How much greater each next number is.
        """

    def rank(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: str | ParameterHandle,
        first: Literal['greatest', 'least'] | ParameterHandle = ...,
        within: Sequence[str] | ParameterHandle = ...,
        ties: Literal['skip', 'next', 'middle'] | ParameterHandle = ...,
        field: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Rank features by a value: first, second, third.

        Rows stay where they are; equal values get equal ranks, unlike the numbers that Number gives. The
        value of one field decides, within each group where you name one. An empty value has no rank.

        Parameters
        ----------
        by : str, must be given
            By. The field whose values are ranked.
        first : one of these, default 'greatest'
            First is. Which value gets rank 1.
            'greatest': the greatest, or the last of the alphabet
            'least': the least, or the first of the alphabet
        within : Sequence[str], default []
            Within each. Fields whose values make groups; each group is ranked by itself.
        ties : one of these, default 'skip'
            Equal values. How ranks go on after values that are equal.
            'skip': share a rank, and as many are left out after it: 1, 2, 2, 4
            'next': share a rank, and the next follows: 1, 2, 2, 3
            'middle': get the middle of their places: 1, 2.5, 2.5, 4
        field : str, default 'rank'
            Field. The field that gets the ranks.
        """

    def classify(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        by: str | ParameterHandle,
        method: Literal['limits', 'equal', 'quantiles', 'natural'] | ParameterHandle = ...,
        limits: str | ParameterHandle = ...,
        count: int | ParameterHandle = ...,
        write: Literal['number', 'range', 'names'] | ParameterHandle = ...,
        names: Sequence[str] | ParameterHandle = ...,
        field: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Classify values: small, middle, large.

        The limits between classes are your own, or found from the values: steps of one size, as many
        features in each, or natural breaks. A value on a limit belongs to the class below it. The class is
        a number, a name of your own, or the range it covers. The limits are told in the ledger; found ones
        move with the data, so give your own where quarters are compared.

        Parameters
        ----------
        by : str, must be given
            By. The field of numbers.
        method : one of these, default 'limits'
            Limits. Where one class ends and the next begins.
            'limits': my own
            'equal': steps of one size
            'quantiles': as many features in each
            'natural': natural breaks
        limits : str, default ''
            My limits. With commas, a point for decimals. The first class is up to the first, the last above
            the last.
        count : int, default 5
            Classes. How many are wanted; fewer come where there are fewer different values.
        write : one of these, default 'number'
            Write. What stands in the field.
            'number': the number of the class, from 1
            'range': its range, such as 5 to 20
            'names': names of my own
        names : Sequence[str], default []
            Names. One for each class, from the lowest on.
        field : str, default 'class'
            Field. The field that gets the class.
        """

    def arrange_fields(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        keep: Sequence[str] | ParameterHandle = ...,
        drop: Sequence[str] | ParameterHandle = ...,
        rename: Mapping[str, str] | ParameterHandle = ...,
        types: Mapping[str, str] | ParameterHandle = ...,
        titles: Mapping[str, str] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Keep, drop, rename, retype, order and title the fields of layers.

        Keep names the fields that stay, in their order; left empty, all stay. Everything else uses the
        names as they come in: rename old = new, type depth = number, title depth = Depth in metres. A value
        that the new type cannot hold becomes empty and is told with an example.

        Parameters
        ----------
        keep : Sequence[str], default []
            Keep. The fields that stay, in this order. Left empty, all stay.
        drop : Sequence[str], default []
            Drop. Fields that go.
        rename : Mapping[str, str], default {}
            Rename. Written as old = new.
        types : Mapping[str, str], default {}
            Types. Written as field = type: whole, number, text, yes/no, date or time.
        titles : Mapping[str, str], default {}
            Titles. What a field is called for people, written as field = title.
        """

    def draft_words(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        fields: Sequence[str] | ParameterHandle,
        earlier: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """List the spellings found in fields, how often each occurs, and suggest a word to use.

        Spellings that differ in case, accents, blanks, or a letter or two are grouped, and the most
        frequent of a group is suggested for all, and for what is short for it, as Rd for Road; numbers in
        them must be the same. Save the table as CSV, settle the words in the Word list view or in a
        spreadsheet, and let Apply words use it. Words settled in an earlier list are kept and used for what
        is like them. The spelling (no value) stands for features without one, and the word (empty) for
        leaving it so.

        Parameters
        ----------
        fields : Sequence[str], must be given
            Fields. Fields of text whose spellings are listed.
        earlier : str, default ''
            Earlier list. A word list whose decisions are kept. One that is not there yet is no mistake.
        """

    def apply_words(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        words: str | ParameterHandle,
        fields: Sequence[str] | ParameterHandle,
        ending: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Replace the spellings in fields by the words of a list, several fields at once.

        The tidied words stand in new fields beside the originals, called after them with an ending; with an
        empty ending the fields themselves are tidied. A spelling that is not in the list stays as it is,
        and is counted and listed, so that you can draft the list anew. The word (empty) leaves a value
        empty, and the spelling (no value) stands for features without one. A list of two columns, spelling
        and word, is taken as it is, for every field.

        Parameters
        ----------
        words : str, must be given
            Word list. A CSV made by Draft words and settled by you, or anybody's list of two columns.
        fields : Sequence[str], must be given
            Fields. Fields whose spellings are brought to the list's words.
        ending : str, default '_tidy'
            Ending of new fields. New fields are called after the old with this. Left empty, the fields
            themselves are overwritten.
        """

    def sql(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        query: str | ParameterHandle,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Ask all layers that enter in SQL, and make a layer or a table of the answer.

        For joins, windows and sums that no other operation says as briefly. Each layer is a table of its
        own name. The column geometry stands for the shape of a row: an answer that carries it along is a
        layer, one without it a table. It only reads: no files, no other tables, nothing of the clock or of
        chance. The ledger says what was read and how many rows came; which row became which nobody can say,
        so features cannot be followed through this step, and no totals are proved.

        Parameters
        ----------
        query : str, must be given
            Query. One SELECT. Parameters are written as $name.
        """

    def tally(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        layers: Sequence[str] | ParameterHandle = ...,
        by: Sequence[str] | ParameterHandle = ...,
        kinds: Sequence[Literal['point', 'line', 'area', 'mixed', 'table']] | Literal['point', 'line', 'area', 'mixed', 'table'] | ParameterHandle = ...,
        about: Sequence[Literal['name', 'file', 'kind', 'crs']] | Literal['name', 'file', 'kind', 'crs'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Count the features of every layer in a set, whole and by the values of fields.

        Features are counted by kind of geometry, and so are those without one and those that are invalid.
        The result is a table with a row for each layer, or for each layer and value. The share of a row is
        in per cent of all features counted. A name pattern picks layers of the set; save the table as CSV
        to hand it on.

        Parameters
        ----------
        layers : Sequence[str], default ['*']
            Layers. Names or patterns of the layers to count, such as lease_*.
        by : Sequence[str], default []
            By the values of. A row for each value of these fields; a layer that lacks one counts as empty
            there.
        kinds : some of these, default ['point', 'line', 'area', 'mixed', 'table']
            Kinds of layers. Layers of which kinds are counted; leave tables out where only shapes count.
            'point': points
            'line': lines
            'area': areas
            'mixed': of several kinds
            'table': tables
        about : some of these, default []
            Tell of each layer. More columns: what the layer is called in its file, which file that is, its
            kind and coordinate system.
            'name': its own name
            'file': its file
            'kind': its kind
            'crs': its coordinate system
        """

    def check(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        that: Literal['count', 'unique', 'filled', 'condition', 'share', 'valid', 'totals', 'inside', 'overlaps', 'gaps'] | ParameterHandle,
        least: int | ParameterHandle = ...,
        most: int | ParameterHandle = ...,
        fields: Sequence[str] | ParameterHandle = ...,
        where: str | ParameterHandle = ...,
        least_share: float | ParameterHandle = ...,
        most_share: float | ParameterHandle = ...,
        other: StepHandle | str | ParameterHandle = ...,
        otherwise: Literal['stop', 'look'] | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Check that something holds for a layer, and stop the run if it does not.

        The layer passes through unchanged. It can check how many features there are, whether a field is a
        key, whether anything is empty, whether a condition holds for all, whether shapes are valid, whether
        totals agree with another layer (of an earlier step), whether all lie inside an area, whether areas
        lie on each other or leave gaps. Features that offend are listed and drawn. A check that fails lets
        nothing be written; or it only asks for a look, if you choose so.

        Parameters
        ----------
        that : one of these, must be given
            Check that. What must hold.
            'count': there are as many features as
            'unique': every feature has its own
            'filled': nothing is empty in
            'condition': a condition holds for all
            'share': a condition holds for a share of them
            'valid': all shapes are valid
            'totals': totals agree with another layer
            'inside': all lie inside another layer
            'overlaps': no areas lie on each other
            'gaps': no gaps between areas
        least : int, default 1
            At least. The smallest number of features that will do.
        most : int, default -1
            At most. The largest number that will do; -1 for any.
        fields : Sequence[str], default []
            Fields. The fields it is about. For totals: fields to sum up, beside number, length and area.
        where : str, default ''
            Condition. An SQL condition that must hold for every feature, or for the share wanted.
        least_share : float, default 0.0
            At least, per cent. The smallest share of all features that will do.
        most_share : float, default 100.0
            At most, per cent. The largest share of all features that will do.
        other : StepHandle | str, default ''
            Other layer. The layer to compare with: step, or step:layer.
        otherwise : one of these, default 'stop'
            If it does not hold. What becomes of the run.
            'stop': stop the run, write nothing
            'look': go on and ask for a look
        """

    def find_gaps(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        along: Literal['fitting', 'planar', 'geodesic'] | ParameterHandle = ...,
        up_to: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """List every loose end of lines with the nearest other one, the smallest gap first.

        An end is loose where no other line ends at exactly the same place. Each gap becomes a short line
        from end to end, with its length in metres and the rows it lies between, so that it can be seen in
        the table and on the map. A tolerance that closes the small gaps and not the others is proposed;
        Enclose takes it.

        Parameters
        ----------
        along : one of these, default 'fitting'
            Gaps along. Degrees and the metres of web maps are no true lengths: there the ellipsoid is used
            unless you choose otherwise.
            'fitting': the plane, or the ellipsoid where the plane is no measure
            'planar': the plane
            'geodesic': the ellipsoid
        up_to : str, default ''
            Gaps up to. Only gaps no wider than this are listed. Left empty, all.
        """

    def compare(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        earlier: StepHandle | str | ParameterHandle,
        key: Sequence[str] | ParameterHandle = ...,
        ignore: Sequence[str] | ParameterHandle = ...,
        tolerance: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Show what was added, removed and changed between an earlier layer and this one.

        Features are matched by a key; without one by their shape, so that a moved feature counts as one
        removed and one added. What leaves are the differences: added and changed features as they are now,
        removed ones as they were, with the fields that changed, their earlier values, and how far the shape
        moved. Features that are the same are set aside.

        Parameters
        ----------
        earlier : StepHandle | str, must be given
            Earlier layer. The layer as it was: step, or step:layer.
        key : Sequence[str], default []
            Key. Fields that tell features apart. Left empty, they are matched by their shape.
        ignore : Sequence[str], default []
            Fields to ignore. Fields whose changes do not count.
        tolerance : str, default ''
            Shapes the same within. How far corners may have moved and still count as the same. Left empty,
            not at all.
        """

    def save(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        to: str | ParameterHandle,
        also: Sequence[str] | ParameterHandle = ...,
        name: str | ParameterHandle = ...,
        names: Literal['', 'as typed', 'tidy'] | ParameterHandle = ...,
        if_exists: Literal['own', 'stop', 'replace', 'number', 'skip', 'append', 'update'] | ParameterHandle = ...,
        key: Sequence[str] | ParameterHandle = ...,
        section: str | ParameterHandle = ...,
        crs: str | ParameterHandle = ...,
        native: bool | ParameterHandle = ...,
        fields: Sequence[str] | ParameterHandle = ...,
        titled: bool | ParameterHandle = ...,
        titles: Mapping[str, str] | ParameterHandle = ...,
        measures: Sequence[str] | ParameterHandle = ...,
        times: Literal['text', 'split'] | ParameterHandle = ...,
        long_texts: Literal['cut', 'stop'] | ParameterHandle = ...,
        decimals: int | ParameterHandle = ...,
        layout: Literal['compact', 'indented'] | ParameterHandle = ...,
        title: str | ParameterHandle = ...,
        description: str | ParameterHandle = ...,
        licence: str | ParameterHandle = ...,
        sld: bool | ParameterHandle = ...,
        index: bool | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Save layers to files in ten formats, all of them or none.

        The file's ending decides the format. A GeoPackage takes the whole set, and can keep it in a
        section, whose layers share one coordinate system; so do a workbook, KML and GPX. The others take
        one layer a file, so put {layer} into the path for several. Nothing is written before the whole run
        has succeeded, and then everything at once. What this workflow wrote the last time is replaced;
        anything else that is in the way stops the run, unless you say otherwise: it can be replaced,
        numbered, left, appended to, or brought up to date by a key. The last two can be taken back later.

        Parameters
        ----------
        to : str, must be given
            File. Where to save, from the workflow's folder. The ending says the format: .gpkg .shp .geojson
            .geojsons .fgb .parquet .kml .gpx .csv .xlsx. It may hold {layer} and parameters.
        also : Sequence[str], default []
            Also to. More files to save the same layers to, each in the format of its ending.
        name : str, default '{layer}'
            Layer name. How each layer is called. {layer}, {step} (that made it), {n} and parameters are
            filled in.
        names : one of these, default ''
            Names of layers. Where the workflow says nothing either, they are tidied, save where a layer of
            just that name is there.
            '': as the workflow says
            'as typed': stay as they are
            'tidy': are tidied: small letters, digits, underscores
        if_exists : one of these, default 'own'
            If it is there already. A file or layer that nobody changed since this workflow wrote it is
            replaced without asking.
            'own': replace own output, else stop
            'stop': stop
            'replace': replace it
            'number': save beside it with a number
            'skip': leave it and go on
            'append': append to it
            'update': bring it up to date by a key
        key : Sequence[str], default []
            Key. Fields that tell features apart: those that are there are replaced, others added, the rest
            stays.
        section : str, default ''
            Section. A name that these layers share in the GeoPackage. A section has one CRS; layers are
            brought to it.
        crs : str, default ''
            CRS to save in. Left empty, layers keep theirs, or take that of the section.
        native : bool, default False
            Keep the CRS of the layer. GeoJSON is in WGS 84 by RFC 7946. Only where whoever reads it has
            agreed to another: it is named in the file.
        fields : Sequence[str], default []
            Fields to save. In this order. Left empty, all are saved.
        titled : bool, default False
            Titles as names of fields. The fields are called by their titles in the file, where they have
            any.
        titles : Mapping[str, str], default {}
            Titles of fields. What a field is called for people, written as field = title. A GeoPackage
            keeps both.
        measures : Sequence[str], default []
            Measures to keep current. Fields computed from the geometry on every save: length_ or area_ and
            a unit.
        times : one of these, default 'text'
            Times of day in a shapefile. A shapefile has dates and no times of day.
            'text': as text
            'split': as a date and a text of the hour
        long_texts : one of these, default 'cut'
            Texts that are too long. A shapefile holds texts of 254 bytes, a cell of a workbook 32,767
            characters.
            'cut': cut them and say so
            'stop': stop the run
        decimals : int, default -1
            Decimals. Digits after the point; -1 for as many as fit the unit: 7 of a degree, about a
            centimetre, 3 of a metre.
        layout : one of these, default 'compact'
            Layout of GeoJSON. Both hold the same; the compact one is smaller.
            'compact': one feature a line
            'indented': spread out, for people to read
        title : str, default ''
            Title. Of what is saved, for those who find it.
        description : str, default ''
            Description. Goes where the format has a place for it.
        licence : str, default ''
            Licence. Under which it may be used.
        sld : bool, default False
            Style beside it. How each layer is drawn, as an OGC SLD file of its name beside what is saved.
        index : bool, default False
            Index page beside it. A page, index.html, in the same folder, that lists what was saved with
            counts, CRS and fields.
        """

    def publish(
        self,
        id: str,
        entering: StepHandle | str | Iterable[StepHandle | str] = ...,
        /,
        *,
        service: str | ParameterHandle,
        dataset: str | ParameterHandle = ...,
        mode: Literal['update', 'append', 'replace'] | ParameterHandle = ...,
        key: Sequence[str] | ParameterHandle = ...,
        gone: Literal['remove', 'leave'] | ParameterHandle = ...,
        decimals: int | ParameterHandle = ...,
        create: bool | ParameterHandle = ...,
        title: str | ParameterHandle = ...,
        description: str | ParameterHandle = ...,
        token_from: str | ParameterHandle = ...,
        **properties: Unpack[StepProperties],
    ) -> StepHandle:
        """Update a published dataset, after showing what would change.

        A run only takes the difference: what would be added, changed and removed, field by field, on the
        map and in the table. It is sent when you say so, in the Publish view or with 'eskret publish', and
        can be taken back afterwards. The service speaks OGC API - Features with the transactions of Part 4.
        Features are told apart by a key; a feature that somebody else changes meanwhile is shown and not
        overwritten.

        Parameters
        ----------
        service : str, must be given
            Address of the service. The landing page of an OGC API - Features service that takes changes.
        dataset : str, default '{layer}'
            Dataset. The id of the dataset. {layer} and parameters are filled in, so that a set goes to a
            dataset each.
        mode : one of these, default 'update'
            What to do. Whatever it is, features that are published already as they are stay untouched.
            'update': bring it up to date: add, change, remove
            'append': add what is new, leave the rest
            'replace': make it exactly this layer
        key : Sequence[str], default []
            Key. Fields that tell features apart. Needed to bring a dataset up to date; else, by all they
            hold.
        gone : one of these, default 'remove'
            Published, and not in the layer. What becomes of features that the dataset has and the layer
            does not.
            'remove': remove it there
            'leave': leave it
        decimals : int, default 7
            Decimals. Digits after the point of a degree; 7 are about a centimetre. What a service rounds
            away is no change.
        create : bool, default False
            Make the dataset if there is none. Where the service lets one. Taking the push back takes the
            dataset away again.
        title : str, default ''
            Title of a new dataset. What people read; the id where it is left empty.
        description : str, default ''
            Description of a new dataset. For those who find it.
        token_from : str, default ''
            Token in the variable. The environment variable that holds the token. Left empty, the one kept
            for the service is used.
        """
