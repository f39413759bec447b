import type { Evidence } from '@/api/types'

/** Where a time stands, as a share of the drawing's width from 0 to 1. */
export type Scale = (t: number) => number

/**
 * A scale that keeps the order of all that happened and evens the stretches between out: a request of 2 ms and the
 * minute of quiet behind it can both be seen. True to scale, it is a straight line.
 */
export function scaleOf(evidence: Evidence, trueToScale: boolean): Scale {
  const { from, to } = evidence
  const span = Math.max(1, to - from)
  if (trueToScale) return (t) => clamp((t - from) / span)
  const points = [...new Set(moments(evidence))].filter((t) => t >= from && t <= to).sort((a, b) => a - b)
  const widths = [0]
  for (let n = 1; n < points.length; n++) {
    const gap = points[n]! - points[n - 1]!
    widths.push(widths[n - 1]! + 1 + Math.log2(1 + (gap / span) * 256))
  }
  const whole = widths.at(-1) || 1
  return (t) => {
    if (points.length < 2) return clamp((t - from) / span)
    let n = points.findIndex((p) => p >= t)
    if (n < 0) n = points.length - 1
    if (n === 0) return 0
    const [before, after] = [points[n - 1]!, points[n]!]
    const share = clamp((t - before) / (after - before))
    return (widths[n - 1]! + share * (widths[n]! - widths[n - 1]!)) / whole
  }
}

function clamp(x: number): number {
  return Math.min(1, Math.max(0, x))
}

function moments(e: Evidence): number[] {
  const all = [e.from, e.to]
  for (const s of e.scopes) all.push(s.opened, s.closed ?? e.to)
  for (const l of e.lives) all.push(l.made, l.ended ?? e.to)
  for (const u of e.uses) all.push(u.at)
  return all
}

/** How deep a scope lies in others of the drawing. */
export function depthOf(evidence: Evidence, scope: number): number {
  let depth = 0
  let at = evidence.scopes.find((s) => s.scope === scope)
  while (at && at.in !== null && depth < 8) {
    const around = at.in
    at = evidence.scopes.find((s) => s.scope === around)
    if (at) depth++
  }
  return depth
}

/** Holders first, then the way down to what the finding is about. */
export function livesInOrder(evidence: Evidence): Evidence['lives'] {
  const rank = { holder: 0, path: 1, kept: 2, subject: 3 }
  // The path is listed from the kept one up.
  return [...evidence.lives].reverse().sort((a, b) => rank[a.role] - rank[b.role])
}
