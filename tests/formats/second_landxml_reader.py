"""A second, small LandXML reader that shares nothing with the application's: it checks what was written."""

import xml.etree.ElementTree as ElementTree


def local(element):
    return element.tag.rsplit("}", 1)[-1]


def surfaces(path):
    """Return per surface: name, points by id as (northing, easting, elevation), faces as ids, breaklines, boundaries."""
    root = ElementTree.parse(path).getroot()
    assert local(root) == "LandXML"
    assert {"version", "date", "time"} <= set(root.attrib)
    found = []
    for surface in (element for element in root.iter() if local(element) == "Surface"):
        points, faces, lines, rings, contours, data = {}, [], [], [], [], []
        parents = {child: parent for parent in surface.iter() for child in parent}
        for element in surface.iter():
            numbers = [float(word) for word in (element.text or "").split()] if not len(element) else []
            if local(element) == "P":
                points[int(element.get("id"))] = tuple(numbers)
            elif local(element) == "F":
                faces.append(tuple(int(number) for number in numbers))
            elif local(element).startswith("PntList"):
                width = int(local(element)[-2])
                rows = [tuple(numbers[i : i + width]) for i in range(0, len(numbers), width)]
                {"Breakline": lines, "Boundary": rings, "Contour": contours, "DataPoints": data}[
                    local(parents[element])
                ].append(rows)
        found.append((surface.get("name"), points, faces, lines, rings, contours, data))
    return found


def linear_unit(path):
    for element in ElementTree.parse(path).getroot().iter():
        if local(element) in ("Metric", "Imperial"):
            assert {"linearUnit", "areaUnit", "volumeUnit", "temperatureUnit", "pressureUnit"} <= set(element.attrib)
            return element.get("linearUnit")
    return None
