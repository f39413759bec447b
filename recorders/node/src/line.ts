import { members, maxText, type Event, type Given, type Make, type Need } from './table.js'

const simple = /^[ !#-[\]-~]*$/
const special = /["\\\u0000-\u001f]/g // eslint-disable-line no-control-regex

/** A JSON string of a text, cut behind `maxText` bytes of UTF-8 on a character's edge. What is no character is U+FFFD. */
export function quoted(text: string): string {
  if (text.length <= maxText && simple.test(text)) return `"${text}"`
  return `"${cut(text.toWellFormed()).replace(special, escaped)}"`
}

function escaped(c: string): string {
  if (c === '"' || c === '\\') return '\\' + c
  if (c === '\n') return '\\n'
  if (c === '\t') return '\\t'
  return '\\u' + c.charCodeAt(0).toString(16).padStart(4, '0')
}

function cut(text: string): string {
  if (text.length <= maxText / 3) return text
  let bytes = 0
  let at = 0
  for (const c of text) {
    const code = c.codePointAt(0)!
    bytes += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4
    if (bytes > maxText) return text.slice(0, at)
    at += c.length
  }
  return text
}

/** An event's line, with its end. Members that are undefined are left out. */
export function lineOf(event: Event): string {
  let line = `{"ev":"${event.ev}","t":${event.t}`
  const of = event as unknown as Record<string, unknown>
  for (const name of members[event.ev]) {
    const value = of[name]
    if (value === undefined) continue
    line += `,"${name}":${valueOf(name, value)}`
  }
  return line + '}\n'
}

/** The same for the commonest kind with texts, which is most of a trace: a test checks that it is the same. */
export function makeLine(m: Make): string {
  let line = `{"ev":"make","t":${m.t},"inst":${m.inst},"scope":${m.scope}`
  if (m.reg !== undefined) line += `,"reg":${m.reg}`
  if (m.container !== undefined) line += `,"container":${m.container}`
  if (m.at !== undefined) line += `,"at":${quoted(m.at)}`
  if (m.impl !== undefined) line += `,"impl":${quoted(m.impl)}`
  if (m.disposable !== undefined) line += `,"disposable":${m.disposable}`
  if (m.disposer !== undefined) line += `,"disposer":"${m.disposer}"`
  if (m.module !== undefined) line += `,"module":${quoted(m.module)}`
  if (m.owner !== undefined) line += `,"owner":${m.owner}`
  if (m.with !== undefined) line += `,"with":[${m.with.map(givenOf).join(',')}]`
  if (m.ns !== undefined) line += `,"ns":${m.ns}`
  if (m.by !== undefined) line += `,"by":"${m.by}"`
  if (m.size !== undefined) line += `,"size":${m.size}`
  return line + '}\n'
}

function valueOf(name: string, value: unknown): string {
  switch (typeof value) {
    case 'string':
      return quoted(value)
    case 'number':
    case 'boolean':
      return String(value)
  }
  if (value === null) return 'null'
  if (Array.isArray(value)) {
    if (name === 'with') return `[${(value as (Given | Given[])[]).map(givenOf).join(',')}]`
    if (name === 'needs' || name === 'also') return `[${(value as Need[]).map(needOf).join(',')}]`
    return `[${(value as string[]).map(quoted).join(',')}]`
  }
  // Labels, whose names are in the order of their bytes, or a part, which has one member.
  const entries = Object.entries(value as Record<string, string | number>)
  entries.sort(([a], [b]) => Buffer.compare(Buffer.from(a), Buffer.from(b)))
  return `{${entries.map(([k, v]) => `${quoted(k)}:${typeof v === 'number' ? v : quoted(v)}`).join(',')}}`
}

function givenOf(given: Given | Given[]): string {
  if (Array.isArray(given)) return `[${given.map(givenOf).join(',')}]`
  if (given === null || typeof given === 'number') return String(given)
  if (
    given.site === undefined &&
    given.service === undefined &&
    given.key === undefined &&
    !given.via &&
    given.kept !== false &&
    !given.unknown
  )
    return String(given.inst)
  let text = `{"inst":${given.inst}`
  if (given.site) text += `,"site":${quoted(given.site)}`
  if (given.service) text += `,"service":${quoted(given.service)}`
  if (given.key !== undefined) text += `,"key":${quoted(given.key)}`
  if (given.via) text += `,"via":${given.via}`
  if (given.kept === false) text += ',"kept":false'
  if (given.unknown) text += ',"unknown":true'
  return text + '}'
}

function needOf(need: Need): string {
  let text = `{"service":${quoted(need.service)}`
  if (need.site) text += `,"site":${quoted(need.site)}`
  if (need.key !== undefined) text += `,"key":${quoted(need.key)}`
  if (need.how) text += `,"how":${quoted(need.how)}`
  if (need.all) text += ',"all":true'
  if (need.optional) text += ',"optional":true'
  if (need.lazy) text += ',"lazy":true'
  return text + '}'
}
