"""Makes a domain with the Active Directory schema in a folder; run by Debian's own Python, which has the function."""

import sys
from pathlib import Path

from samba import param, provision
from samba.auth import system_session
from samba.dsdb import DS_DOMAIN_FUNCTION_2008_R2
from samba.provision.common import FILL_FULL

FOLDERS = {
    "private dir": "private", "lock directory": "lock", "state directory": "state", "cache directory": "cache",
    "pid directory": "pid", "binddns dir": "bind-dns", "ncalrpc dir": "ncalrpc", "winbindd socket directory": "winbind",
    "ntp signd socket directory": "ntp",
}  # fmt: skip


def main(folder: Path, address: str, password: str) -> None:
    for name in FOLDERS.values():
        (folder / name).mkdir()
    places = "\n".join(f"\t{option} = {folder / name}" for option, name in FOLDERS.items())
    configuration = folder / "smb.conf"
    configuration.write_text(
        f"""[global]
\tworkgroup = MARROWICK
\trealm = MARROWICK.EXAMPLE
\tnetbios name = HARBOUR
\tserver role = active directory domain controller
\tserver services = ldap, kdc
\tbind interfaces only = yes
\tinterfaces = {address}/8
\tlog file = {folder}/log.%m
\ttls keyfile = {folder}/key.pem
\ttls certfile = {folder}/cert.pem
\ttls cafile = {folder}/ca.pem
{places}
[netlogon]
\tpath = {folder}/netlogon
[sysvol]
\tpath = {folder}/sysvol
"""
    )
    for name in ("netlogon", "sysvol"):
        (folder / name).mkdir()
    settings = param.LoadParm()
    settings.load(str(configuration))
    import logging

    provision.provision(
        logging.getLogger("provision"), system_session(), smbconf=str(configuration), targetdir=None,
        samdb_fill=FILL_FULL, realm="marrowick.example", domain="MARROWICK", hostname="harbour", hostip=address,
        hostip6=None, adminpass=password, serverrole="active directory domain controller",
        dom_for_fun_level=DS_DOMAIN_FUNCTION_2008_R2, dns_backend="NONE", use_ntvfs=False, skip_sysvolacl=True,
        base_schema="2012_R2", lp=settings,
    )  # fmt: skip


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2], sys.stdin.readline().rstrip("\n"))
