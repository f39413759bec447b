import type { ElkExtendedEdge, ElkNode } from 'elkjs/lib/elk-api'
import ELK from 'elkjs/lib/elk-api'
import ElkWorker from 'elkjs/lib/elk-worker.min.js?worker'

import type { Graph, Ref } from '@/api/types'
import { nameOf, shorten } from '@/format'

export const nodeWidth = 210
export const nodeHeight = 44

export interface Placed {
  id: number
  x: number
  y: number
  name: string
  full: string
  lifetime: string
  internal: boolean
  made: number
}
export interface Drawn {
  from: number
  to: number
  path: string
  wraps: boolean
  longToShorter: boolean
  count: number
  label: { x: number; y: number }
}
export interface Layout {
  nodes: Placed[]
  edges: Drawn[]
  width: number
  height: number
}

let elk: InstanceType<typeof ELK> | undefined

/** Lays a wiring out in layers from those who ask, at the left, to those who are asked. It works beside the page. */
export async function layOut(graph: Graph, short: (of: Ref) => string): Promise<Layout> {
  elk ??= new ELK({ workerFactory: () => new ElkWorker() })
  const there = new Set(graph.nodes.map((n) => n.id))
  const edges = graph.edges.filter((e) => there.has(e.from) && there.has(e.to))
  const wiring: ElkNode = {
    id: 'root',
    layoutOptions: {
      'elk.algorithm': 'layered',
      'elk.direction': 'RIGHT',
      'elk.layered.spacing.nodeNodeBetweenLayers': '90',
      'elk.spacing.nodeNode': '14',
      'elk.spacing.edgeNode': '10',
      'elk.layered.nodePlacement.strategy': 'NETWORK_SIMPLEX',
      'elk.separateConnectedComponents': 'true',
      'elk.aspectRatio': '1.6',
      'elk.edgeRouting': 'SPLINES',
    },
    children: graph.nodes.map((n) => ({ id: String(n.id), width: nodeWidth, height: nodeHeight })),
    edges: edges.map((e, k): ElkExtendedEdge => ({ id: `e${k}`, sources: [String(e.from)], targets: [String(e.to)] })),
  }
  const laid = await elk.layout(wiring)
  const byID = new Map(graph.nodes.map((n) => [String(n.id), n]))
  const nodes = (laid.children ?? []).map((c: ElkNode) => {
    const n = byID.get(c.id)!
    const name = nameOf(n.registration)
    return { id: n.id, x: c.x ?? 0, y: c.y ?? 0, name: shorten(short(n.registration), 24), full: name, lifetime: n.registration.lifetime ?? '', internal: n.internal, made: n.made }
  })
  const drawn = (laid.edges ?? []).map((l, k) => {
    const e = edges[k]!
    const s = l.sections?.[0]
    const points = s ? [s.startPoint, ...(s.bendPoints ?? []), s.endPoint] : []
    return { from: e.from, to: e.to, path: splines(points), wraps: e.wraps, longToShorter: e.long_to_shorter, count: e.count, label: points[Math.floor(points.length / 2)] ?? { x: 0, y: 0 } }
  })
  return { nodes, edges: drawn, width: laid.width ?? 0, height: laid.height ?? 0 }
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
