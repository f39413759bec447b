/** Gives a text to the browser to be saved. */
export function save(name: string, type: string, content: string) {
  const url = URL.createObjectURL(new Blob([content], { type }))
  saveFrom(name, url)
  setTimeout(() => URL.revokeObjectURL(url), 10_000)
}

export function saveFrom(name: string, url: string) {
  const link = document.createElement('a')
  link.href = url
  link.download = name
  link.click()
}

export interface Column<T> {
  title: string
  value: (row: T) => string | number | boolean | null | undefined
}

/** What has no shape of its own, or turns the direction of what follows, as it is written in a program. */
const unseen = /[\p{Cc}\p{Cf}\u2028\u2029]/gu

function visible(text: string) {
  return text.replace(unseen, (c) => (c === '\u202f' ? c : `\\u${c.charCodeAt(0).toString(16).padStart(4, '0')}`))
}

/** Rows as CSV (RFC 4180). What a spreadsheet would take for a formula becomes a text. */
export function csvOf<T>(columns: Column<T>[], rows: T[]): string {
  const cell = (v: string | number | boolean | null | undefined) => {
    if (v === null || v === undefined) return ''
    let text = typeof v === 'string' ? visible(v) : String(v)
    if (typeof v === 'string' && /^[=+\-@\t\r]/.test(text)) text = "'" + text
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
  }
  return [columns.map((c) => cell(c.title)), ...rows.map((r) => columns.map((c) => cell(c.value(r))))].map((r) => r.join(',')).join('\r\n') + '\r\n'
}
