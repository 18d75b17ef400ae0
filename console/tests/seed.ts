import fc from 'fast-check'

/** What is made up is the same each time where a seed is given; else it is another each time, and a failure tells its seed. */
const seed = process.env.OAK_RELAY_SEED
if (seed) fc.configureGlobal({ seed: Number(seed) })
