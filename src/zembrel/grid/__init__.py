"""Where and how fine: frames, panes, areas, and the way from one frame's cells to another's."""
