"""How a layer is drawn: its style, the legend that follows, classes of numbers and ramps of colours."""
