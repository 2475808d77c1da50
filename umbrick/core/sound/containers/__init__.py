"""Video and other containers: listing their tracks, decoding one, and copying all but one."""
