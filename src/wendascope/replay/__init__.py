"""Replay: a process of its own rebuilds a frame in a fresh context, runs it, and runs changed versions of it.

`worker` is that process, `client` the side that everyone else uses. May import `frame`, `registry`,
`errors`, and from `tap` only what runs GL calls for a snapshot.
"""
