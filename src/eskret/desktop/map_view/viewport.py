"""Where the map looks: centre and scale, and the way between ground and screen."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Viewport:
    """A view of the ground.

    ``x``, ``y`` is the ground in the middle of the screen; ``scale`` is screen pixels a ground unit; ``width`` and
    ``height`` are the screen's, in pixels at 100 %.
    """

    x: float = 0.0
    y: float = 0.0
    scale: float = 1.0
    width: int = 1
    height: int = 1

    @property
    def box(self) -> Box:
        """The ground in view: xmin, ymin, xmax, ymax."""
        w, h = self.width / 2 / self.scale, self.height / 2 / self.scale
        return self.x - w, self.y - h, self.x + w, self.y + h

    def to_ground(self, px: float, py: float) -> tuple[float, float]:
        return self.x + (px - self.width / 2) / self.scale, self.y - (py - self.height / 2) / self.scale

    def to_screen(self, xy: np.ndarray) -> np.ndarray:
        """Ground (n, 2) to screen pixels (n, 2), float64."""
        out = np.empty((len(xy), 2))
        out[:, 0] = (xy[:, 0] - self.x) * self.scale + self.width / 2
        out[:, 1] = (self.y - xy[:, 1]) * self.scale + self.height / 2
        return out

    def sized(self, width: int, height: int) -> Viewport:
        return replace(self, width=max(1, width), height=max(1, height))

    def moved(self, dx: float, dy: float) -> Viewport:
        """Dragged by screen pixels."""
        return replace(self, x=self.x - dx / self.scale, y=self.y + dy / self.scale)

    def zoomed(self, factor: float, px: float, py: float) -> Viewport:
        """Closer by a factor, with the ground under a screen point held."""
        gx, gy = self.to_ground(px, py)
        scale = min(max(self.scale * factor, 1e-9), 1e9)
        return replace(self, scale=scale, x=gx - (px - self.width / 2) / scale, y=gy + (py - self.height / 2) / scale)

    def fitted(self, box: Box, margin: float = 26.0) -> Viewport:
        """Looking at a box, with a margin in pixels; a point is given some ground around it."""
        w, h = box[2] - box[0], box[3] - box[1]
        room_x, room_y = max(self.width - 2 * margin, 10.0), max(self.height - 2 * margin, 10.0)
        scales = [room / size for room, size in ((room_x, w), (room_y, h)) if size > 0]
        scale = min(scales) if scales else (0.2 if abs(box[0]) > 400 else 2_000.0)
        return replace(self, x=(box[0] + box[2]) / 2, y=(box[1] + box[3]) / 2, scale=scale)
