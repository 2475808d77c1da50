"""Everything that computes: no interface, no global state; arrays in, arrays or small dataclasses out.

Throughout: positions are integer frames, spans are half open, audio is ``float32`` of shape
``(frames, channels)`` in C order with nominal range ±1.0 and headroom above. A *frame* is one sample of
every channel.
"""
