"""A service that takes people in by SCIM 2.0 (RFC 7643, RFC 7644), as a directory: people and groups, no units."""
