-- +goose Up
-- Addresses and VLANs ("vlan N") of sites' pools that are kept for something that is not deployed here. What is due for one is in dues.
CREATE TABLE address_leases (
    site    TEXT NOT NULL,
    value   TEXT NOT NULL,
    body    TEXT NOT NULL,
    changed INTEGER NOT NULL,
    PRIMARY KEY (site, value)
);

-- +goose Down
DROP TABLE address_leases;
