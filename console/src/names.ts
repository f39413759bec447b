/** How many names are told apart, and how many parts of each are looked at; what is beyond is shown in full. */
const maxNames = 20_000
const maxParts = 8

/**
 * Finds how much of each name has to be shown so that it stays different from all others: of a type's name the packages are
 * left out. The command line does the same.
 */
export class ShortNames {
  private readonly names = new Set<string>()
  private readonly ends = new Map<string, number>()

  get size(): number {
    return this.names.size
  }

  add(name: string): void {
    if (this.names.size >= maxNames || this.names.has(name)) return
    this.names.add(name)
    for (const end of [name, ...ends(name)]) this.ends.set(end, (this.ends.get(end) ?? 0) + 1)
  }

  of(name: string): string {
    if (!this.names.has(name)) return name
    return ends(name).find((end) => this.ends.get(end) === 1) ?? name
  }

  /** The packages that are left out, the most frequent first. */
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
 * The ends of a type's name at which a package could be left out, the shortest first. What is in brackets belongs to the type.
 * A name whose last part does not begin with a capital letter is not taken for a type: it is a key of the application's own,
 * which means nothing without its first parts.
 */
function ends(name: string): string[] {
  const bracket = name.search(/[[<( {]/)
  const head = bracket < 0 ? name : name.slice(0, bracket)
  const list: string[] = []
  for (let at = head.length - 1; at > 0 && list.length < maxParts; at--) {
    if ('./\\:'.includes(head[at]!) && at + 1 < head.length && !'./\\:'.includes(head[at + 1]!)) list.push(name.slice(at + 1))
  }
  return list[0] && /^\p{Lu}/u.test(list[0]) ? list : []
}
