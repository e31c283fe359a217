//! Nothing: the benches are in `benches/`, in a package of their own so that nothing else waits for them to be built.
