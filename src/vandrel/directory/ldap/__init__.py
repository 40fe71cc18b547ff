"""Directories behind the LDAP protocol, by way of python-ldap."""
