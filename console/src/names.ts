/** How many names are distinguished, and how many parts of each are inspected; what is beyond is shown in full. */
const maxNames = 20_000
const maxParts = 8

/** What stands between the names of types in a longer one, as in Map<Berth, Tide>, *Mast or func(Office) Desk. */
const between = /[<>[\](){}, "'*&?|`\n]/

/** A source file in a folder, with a line and perhaps a column. */
const sourcePlace = /^([^:]*[/\\][^/\\:]+\.\w+)(:\d+(?::\d+)?)$/

/** The names of one sort: types or source files. */
class Names {
  private readonly names = new Set<string>()
  private readonly endings = new Map<string, number>()
  private readonly known = new Map<string, string>() // the short forms, until another name is added

  constructor(private readonly ends: (name: string) => string[]) {}

  get size(): number {
    return this.names.size
  }

  add(name: string): void {
    if (this.names.size >= maxNames || this.names.has(name)) return
    this.names.add(name)
    this.known.clear()
    for (const end of [name, ...this.ends(name)]) this.endings.set(end, (this.endings.get(end) ?? 0) + 1)
  }

  /** The shortest end of a name that no other name has. */
  of(name: string): string {
    if (!this.names.has(name)) return name
    let short = this.known.get(name)
    if (short === undefined) {
      short = this.ends(name).find((end) => this.endings.get(end) === 1) ?? name
      this.known.set(name, short)
    }
    return short
  }

  /** What is left out of the names, the most frequent first. */
  leftOut(): string[] {
    const used = new Map<string, number>()
    for (const name of this.names) {
      const left = name.slice(0, name.length - this.of(name).length).replace(/[./\\:]+$/, '')
      if (left) used.set(left, (used.get(left) ?? 0) + 1)
    }
    return [...used.keys()].sort((a, b) => used.get(b)! - used.get(a)! || (a < b ? -1 : 1))
  }
}

/**
 * Finds how much of each name has to be shown so that it stays different from all others: of a type's name the packages are
 * left out, also inside of brackets, and of a place in the source the folders. The command line does the same.
 */
export class ShortNames {
  private readonly types = new Names(packages)
  private readonly files = new Names((file) => parts(file, '/\\'))

  get size(): number {
    return this.types.size + this.files.size
  }

  /** Takes note of a type's name. */
  add(name: string): void {
    components(name, (word) => (this.types.add(word), word))
  }

  addPlace(place: string): void {
    this.files.add(fileOf(place)[0])
  }

  /** Takes note of the names and places in a sentence. */
  addProse(text: string): void {
    components(text, (word) => {
      if (sourcePlace.test(word)) this.addPlace(word)
      else if (isType(word) && packages(word).length) this.types.add(word) // a plain word is not a qualified name
      return word
    })
  }

  of(name: string): string {
    return components(name, (word) => this.types.of(word))
  }

  /** The end of a place's path, and that there is more of it. */
  place(place: string): string {
    const [file, line] = fileOf(place)
    const short = this.files.of(file)
    return (short === file ? file : `…/${short}`) + line
  }

  /** A sentence with its names and places as they are shown elsewhere. */
  prose(text: string): string {
    let before = ''
    return components(text, (word, so) => {
      before = so
      if (sourcePlace.test(word)) return this.place(word)
      const short = isType(word) ? this.types.of(word) : word
      // A name without its packages may begin with another sound: "an org.harbour.Ledger" is "a Ledger".
      return short === word || !/ an? $/.test(before) ? short : `\0${short}`
    }).replace(/ an? \0(.)/g, (_, first: string) => ` ${/[aeiou]/i.test(first) ? 'an' : 'a'} ${first}`)
  }

  /** The packages and folders that are left out, the most frequent first. */
  leftOut(): string[] {
    return this.types.leftOut()
  }
}

/** Whether a word of a sentence can be a type's name: not an address, and not a route. */
function isType(word: string): boolean {
  return !word.startsWith('/') && !word.includes('://')
}

function fileOf(place: string): [file: string, line: string] {
  const [, file, line] = sourcePlace.exec(place) ?? []
  if (file !== undefined) return [file, line ?? '']
  const at = place.lastIndexOf(':')
  return at > 0 ? [place.slice(0, at), place.slice(at)] : [place, '']
}

/** Replaces each type's name in a longer one, or in a sentence. A point or colon at the end of a word is the sentence's. */
function components(text: string, replace: (word: string, before: string) => string): string {
  let out = ''
  let rest = text
  while (rest) {
    const found = rest.search(between)
    const end = found < 0 ? rest.length : found
    const word = rest.slice(0, end).replace(/[.:;]+$/, '')
    out += (word && replace(word, out)) + rest.slice(word.length, Math.min(end + 1, rest.length))
    rest = rest.slice(end + 1)
  }
  return out
}

/** The ends of a text at the beginnings of its parts, the shortest first. */
function parts(text: string, separators: string): string[] {
  const list: string[] = []
  for (let at = text.length - 1; at > 0 && list.length < maxParts; at--) {
    if (separators.includes(text[at]!) && at + 1 < text.length && !separators.includes(text[at + 1]!)) list.push(text.slice(at + 1))
  }
  return list
}

/**
 * The ends of a type's name at which a package could be left out. A name whose last part does not begin with a capital letter is
 * not taken for a type: it is a key of the application's own, which means nothing without its first parts.
 */
function packages(name: string): string[] {
  const list = parts(name, './\\:')
  return list[0] && /^\p{Lu}/u.test(list[0]) ? list : []
}
