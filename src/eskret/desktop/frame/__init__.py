"""What stands about the panes: the bar at the top, the line at the bottom, boxes, and the workbench that puts all together."""
