"""A small simulated team-folder service on loopback: SCIM, WebDAV, and a listing of what is shared."""
