package machine

// caveat is what the files do not tell of this system: Windows keeps its resolvers in its registry.
const caveat = "Windows does not keep its list of resolvers in a file, and it is not read here"
