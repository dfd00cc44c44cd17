// What pages make of what was typed, chosen or told: computed here, so that it can be tested without a page.
import type { Act } from '../api'

/** What an act was about, in one line: each value with its name, then the people it was done to. */
export function about(act: { about: unknown; people: Act['people'] }): string {
  const parts = Object.entries(act.about as Record<string, unknown>)
    .filter(([, v]) => v !== null && !(Array.isArray(v) && !v.length))
    .map(([k, v]) => `${k.replaceAll('_', ' ')} ${Array.isArray(v) ? v.join(', ') : String(v)}`)
  if (act.people.length) parts.push(act.people.join(', '))
  return parts.join('; ')
}

/** The moment that a date field gives, which is of this place and has no zone; none where it is no date yet. */
export function wholeMoment(local?: string): string | undefined {
  if (!local || !/^\d{4}-\d\d-\d\dT\d\d:\d\d/.test(local)) return undefined
  const moment = new Date(local)
  return Number.isNaN(moment.getTime()) ? undefined : moment.toISOString()
}

/** A secret from a file: its text without the line end that editors add, or base64 where it is a keytab, which is no text. */
export function secretOf(bytes: Uint8Array): string {
  const isKeytab = bytes[0] === 5 && bytes[1] === 2
  return isKeytab ? btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join('')) : new TextDecoder().decode(bytes).replace(/\r?\n$/, '')
}

/** Where a line of a document begins and ends, counted in characters; the first line is 1, and one past the end is the end. */
export function lineOf(text: string, line: number): [number, number] {
  const lines = text.split('\n')
  const from = lines.slice(0, line - 1).join('\n').length + (line > 1 ? 1 : 0)
  return [Math.min(from, text.length), Math.min(from + (lines[line - 1]?.length ?? 0), text.length)]
}

/** Roles that somebody may give a token: none above their own. */
export function upTo(rights: string): ('view' | 'operate' | 'configure')[] {
  const all = ['view', 'operate', 'configure'] as const
  return all.slice(0, all.indexOf(rights as (typeof all)[number]) + 1)
}
