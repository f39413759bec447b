import type { ElkExtendedEdge, ElkNode } from 'elkjs/lib/elk-api'
import ELK from 'elkjs/lib/elk-api'
import ElkWorker from 'elkjs/lib/elk-worker.min.js?worker'

import type { Ref, WiringMap } from '@/api/types'
import { count, nameOf, shorten, whole } from '@/format'

export const nodeWidth = 210
export const nodeHeight = 44

export interface Placed {
  id: number
  x: number
  y: number
  name: string
  full: string
  about: string // in a few words
  lifetime: string
  internal: boolean
  module?: string // of a module: its whole name
}
export interface Drawn {
  from: number
  to: number
  path: string
  wraps: boolean
  longToShorter: boolean
  count: number
  lines: number // between registrations that it represents
  wrong: number // those of them from longer- to shorter-lived
  label: { x: number; y: number }
}
export interface Layout {
  nodes: Placed[]
  edges: Drawn[]
  width: number
  height: number
}

/** Above so many lines they are drawn straight rather than curved, which takes several times as long to lay out. */
const manyLines = 400

/** How the names of registrations and of modules are shown. */
export interface Shown {
  of: (of: Ref) => string
  module: (name: string) => string
}

/**
 * Lays a part of a wiring out in layers from consumers, at the left, to their dependencies. It works beside the page, and ends with the
 * signal.
 */
export async function layOut(map: WiringMap, shown: Shown, signal: AbortSignal): Promise<Layout> {
  const worker = new ElkWorker()
  const elk = new ELK({ workerFactory: () => worker })
  const stopped = new Promise<never>((_, reject) => signal.addEventListener('abort', () => reject(new DOMException('stopped', 'AbortError'))))
  try {
    return await Promise.race([laidOut(elk, map, shown), stopped])
  } finally {
    worker.terminate()
  }
}

async function laidOut(elk: InstanceType<typeof ELK>, map: WiringMap, shown: Shown): Promise<Layout> {
  const ids = [...map.modules.map((m) => m.id), ...map.nodes.map((n) => n.id)]
  const there = new Set(ids)
  const edges = map.edges.filter((e) => there.has(e.from) && there.has(e.to))
  const many = edges.length > manyLines
  const wiring: ElkNode = {
    id: 'root',
    layoutOptions: {
      'elk.algorithm': 'layered',
      'elk.direction': 'RIGHT',
      'elk.layered.spacing.nodeNodeBetweenLayers': '90',
      'elk.spacing.nodeNode': '14',
      'elk.spacing.edgeNode': '10',
      'elk.layered.nodePlacement.strategy': many ? 'LINEAR_SEGMENTS' : 'NETWORK_SIMPLEX',
      'elk.layered.thoroughness': many ? '2' : '7',
      'elk.separateConnectedComponents': 'true',
      'elk.aspectRatio': '1.6',
      'elk.edgeRouting': many ? 'POLYLINE' : 'SPLINES',
    },
    children: ids.map((id) => ({ id: String(id), width: nodeWidth, height: nodeHeight })),
    edges: edges.map((e, k): ElkExtendedEdge => ({ id: `e${k}`, sources: [String(e.from)], targets: [String(e.to)] })),
  }
  const laid = await elk.layout(wiring)
  const at = new Map((laid.children ?? []).map((c: ElkNode) => [c.id, { x: c.x ?? 0, y: c.y ?? 0 }]))
  const nodes: Placed[] = [
    ...map.modules.map((m) => ({
      id: m.id,
      ...at.get(String(m.id))!,
      name: shorten(shown.module(m.name), 24),
      full: m.name,
      about: `${count(m.registrations, 'registration', 'registrations')}${m.wrong ? `, ${m.wrong} ▲ inside` : ''}`,
      lifetime: '',
      internal: false,
      module: m.name,
    })),
    ...map.nodes.map((n) => ({
      id: n.id,
      ...at.get(String(n.id))!,
      name: shorten(shown.of(n.registration), 24),
      full: nameOf(n.registration),
      about: `${n.registration.lifetime || 'lifetime not said'} · ${whole(n.made)} made`,
      lifetime: n.registration.lifetime ?? '',
      internal: n.internal,
    })),
  ]
  const drawn = (laid.edges ?? []).map((l, k) => {
    const e = edges[k]!
    const s = l.sections?.[0]
    const points = s ? [s.startPoint, ...(s.bendPoints ?? []), s.endPoint] : []
    return { from: e.from, to: e.to, path: many ? straight(points) : splines(points), wraps: e.wraps, longToShorter: e.long_to_shorter, count: e.count, lines: e.lines, wrong: e.wrong, label: points[Math.floor(points.length / 2)] ?? { x: 0, y: 0 } }
  })
  return { nodes, edges: drawn, width: laid.width ?? 0, height: laid.height ?? 0 }
}

function straight(points: { x: number; y: number }[]): string {
  return points.map((p, n) => `${n ? 'L' : 'M'}${p.x} ${p.y}`).join('')
}

/** The points of a spline, three for each curve after the first, as a path. */
function splines(points: { x: number; y: number }[]): string {
  const [first, ...rest] = points
  if (!first) return ''
  let path = `M${first.x} ${first.y}`
  for (let n = 0; n < rest.length; n += 3) {
    const part = rest.slice(n, n + 3)
    const command = part.length === 3 ? 'C' : part.length === 2 ? 'Q' : 'L'
    path += command + part.map((p) => `${p.x} ${p.y}`).join(' ')
  }
  return path
}

/** Returns names of modules without the parts with which all begin, or end. */
export function brief(all: string[]): (name: string) => string {
  const parts = (name: string) => name.split(/[./\\:]+/)
  if (all.length < 2) return (name) => parts(name).slice(-2).join('.')
  const split = all.map(parts)
  const least = Math.min(...split.map((p) => p.length)) - 1
  const same = (at: number) => split.every((p) => p.at(at) === split[0]!.at(at))
  let from = 0
  while (from < least && same(from)) from++
  let end = 0
  while (end < least - from && same(-1 - end)) end++
  return (name) => parts(name).slice(from, parts(name).length - end).join('.')
}
