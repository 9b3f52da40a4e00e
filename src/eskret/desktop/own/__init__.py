"""Operations of the analyst's own in the window: known by what another process tells of them, allowed, read, begun."""
