import assert from 'node:assert/strict'
import { readFileSync } from 'node:fs'
import { test } from 'node:test'

import { lineOf, makeLine, type Event } from 'keenlantern-record'

interface Vector {
  name: string
  event: Event
  texts?: Record<string, { utf16?: number[]; bytes?: string; repeat?: string; times?: number; after?: string }>
  line: string
}

const vectors = JSON.parse(readFileSync(new URL('../../../../testdata/recorder/lines.json', import.meta.url), 'utf8')) as Vector[]

for (const { name, event, texts, line } of vectors) {
  // A string here has code units, and can hold no bytes that are no text.
  const skip = Object.values(texts ?? {}).some((t) => t.bytes !== undefined) && 'a string cannot hold bytes'
  test(`line: ${name}`, { skip }, () => {
    const call = { ...event } as unknown as Record<string, unknown>
    for (const [member, t] of Object.entries(texts ?? {}))
      call[member] = t.utf16 ? String.fromCharCode(...t.utf16) : t.repeat!.repeat(t.times!) + (t.after ?? '')
    const built = call as unknown as Event
    assert.equal(lineOf(built), line)
    if (built.ev === 'make') assert.equal(makeLine(built), line)
  })
}
