"""One file per listening thing, each thin: socket, core, store, socket."""
