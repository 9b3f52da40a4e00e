"""Shapes in longitude and latitude: right across 180 degrees, round the poles and at any distance.

An edge between two vertices is straight in its coordinates (OGC Simple Features; RFC 7946, 3.1.1). Whoever measures, or moves
shapes into a plane, follows that edge to a stated tolerance.
"""
