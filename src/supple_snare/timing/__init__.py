"""Musical time: grid, strokes, offsets, drift and feel, the plan. NumPy only: no files, no sound, no Qt."""
