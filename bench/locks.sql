-- What tarnd does for one lock and one unlock of an asset.
\set n random(0, :assets - 1)
\set who random(1, :people - 1)
SELECT 1;
