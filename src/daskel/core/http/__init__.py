"""HTTP (RFC 9110): what conditions and ranges ask for. The messages themselves are a library's."""
