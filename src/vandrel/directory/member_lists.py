"""The attributes by which groups list their members."""

#: By name (RFC 4519, 2.17 and 2.40).
BY_NAME = ("member", "uniqueMember")
#: By logon name (RFC 2307, 2.2).
BY_LOGIN = "memberUid"
ALL = (*BY_NAME, BY_LOGIN)
