"""What the window knows and works on, without widgets of its own: the session, published data, files, work beside its thread."""
