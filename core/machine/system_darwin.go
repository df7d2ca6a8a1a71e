package machine

// caveat is what the files do not tell of this system: macOS keeps resolvers of single domains outside of etc/resolv.conf, and programs use those too.
const caveat = "macOS may ask other resolvers than these for the names of single domains"
