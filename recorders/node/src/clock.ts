/** The time in ns, evenly. */
export const now = (): number => Math.round(performance.now() * 1e6)
