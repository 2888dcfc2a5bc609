"""The web: thin routers over the stations, the app factory, security, and the built front end."""
