"""The search for what stands in the way of frames: a way through bridges that are allowed to be mended."""
