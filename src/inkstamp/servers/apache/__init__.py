"""Apache httpd as a server kind."""
