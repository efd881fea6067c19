"""Open formats in, survey rows out: one module for each format, and no network access.

`gathering` is the way in: it recognises files by their content and merges what they say.
"""
