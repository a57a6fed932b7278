"""The processes that make up a running Zero Tilt: database, worker, server, and who looks after them."""
