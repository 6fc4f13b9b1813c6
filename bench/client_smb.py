"""Read a share with the C client library of the system's own Python: list; open, ask the descriptor, close, in turn.

/usr/bin/python3 client_smb.py SHARE USER   (the password on standard input)   — run by measure_smb.py
"""

import sys

from samba import credentials, param
from samba.dcerpc import security
from samba.samba3 import libsmb_samba_internal as libsmb
from samba.samba3 import param as s3param

share, user = sys.argv[1:3]
password = sys.stdin.readline().rstrip("\n")
terms = s3param.get_context()
terms.load("/dev/null")
who = credentials.Credentials()
who.guess(param.LoadParm())
who.set_username(user)
who.set_password(password)
who.set_smb_signing(credentials.SMB_SIGNING_REQUIRED)
how = credentials.SMB_ENCRYPTION_DESIRED if "encrypted" in sys.argv else credentials.SMB_ENCRYPTION_OFF
who.set_smb_encryption(how)
server = libsmb.Conn("127.0.0.1", share, terms, who)
WANTED = security.SECINFO_OWNER | security.SECINFO_GROUP | security.SECINFO_DACL
read, waiting = 0, [""]
while waiting:
    folder = waiting.pop()
    server.get_acl(folder or "\\", WANTED, security.SEC_STD_READ_CONTROL)
    read += 1
    for row in server.list(folder or "\\"):
        path = f"{folder}\\{row['name']}"
        if row["attrib"] & libsmb.FILE_ATTRIBUTE_DIRECTORY:
            waiting.append(path)
        else:
            server.get_acl(path, WANTED, security.SEC_STD_READ_CONTROL)
            read += 1
print(read)
