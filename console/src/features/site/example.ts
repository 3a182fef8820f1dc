/** A small site file to begin with: one gateway, one directory, a code beside the password. */
export const EXAMPLE = `[site]
name = "Northmoor Tidal"

[radius]
listen = ["127.0.0.1:1812"]

[[gateways]]
name = "breakwater"
from = ["192.0.2.10"]
secret = "gateway/breakwater"

[[directories]]
name = "tidehall"
servers = ["ldaps://dir1.northmoor.example"]
base = "ou=people,dc=northmoor,dc=example"
reader = { dn = "cn=bivector,ou=services,dc=northmoor,dc=example", secret = "directory/tidehall" }

[[chains]]
name = "staff"
gateways = ["breakwater"]
methods = ["pap"]
forms = ["password code(6)"]
first = ["tidehall"]
second = ["totp"]

[[grants]]
name = "staff"

[[rules]]
name = "staff get in"
chain = "staff"
when = { group = "staff" }
grant = "staff"
`
