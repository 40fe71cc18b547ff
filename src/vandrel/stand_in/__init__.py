"""A stand-in for a service outside, to rehearse on and for tests: SCIM 2.0 on this machine alone, plainly marked so."""
