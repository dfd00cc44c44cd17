// State by shape and word as well as colour: see docs/design-language.md.

import type { Outcome, StepBearing } from '../api'

/** The tone of a state; each has a colour token and a shape of its own. */
export type Tone = 'pass' | 'stop' | 'notice' | 'quiet'

const OUTCOMES: Record<Outcome, Tone> = {
  admitted: 'pass',
  refused: 'stop',
  'provider-refused': 'stop',
  'check-failed': 'stop',
  failed: 'notice',
  'never-came-back': 'notice',
  unauthenticated: 'quiet',
  'bad-request': 'quiet',
  waiting: 'quiet',
  'signed-out': 'quiet',
  tried: 'quiet',
}

/** How an outcome is shown. */
export function outcomeTone(outcome: Outcome): Tone {
  return OUTCOMES[outcome]
}

/** How a step's bearing is shown. */
export function bearingTone(bearing: StepBearing): Tone {
  return bearing === 'fact' ? 'quiet' : bearing
}

/** A span of time for reading: milliseconds up to a second, then seconds, then minutes. */
export function span(ms: number): string {
  if (ms < 1000) return `${ms} ms`
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`
  return `${Math.round(ms / 60_000)} min`
}

/** A number of bytes for reading. */
export function bytes(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let i = 0
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024
    i += 1
  }
  return `${i === 0 ? n : n.toFixed(1)} ${units[i]}`
}

/** A moment in local time: the time for today, with the day otherwise. */
export function moment(iso: string, locale: string, now = new Date()): string {
  const at = new Date(iso)
  const time = at.toLocaleTimeString(locale, { hour12: false })
  if (at.toDateString() === now.toDateString()) return time
  return `${at.toLocaleDateString(locale, { day: '2-digit', month: 'short' })} ${time}`
}

/** A browser in a few words, from what it says of itself; the whole is worth a title. */
export function browser(agent: string): string {
  const name = /(Firefox|Edg|OPR|Chrome|Safari)\/(\d+)/.exec(agent.replace('HeadlessChrome', 'Chrome'))
  const system = /(Windows|Android|iPhone|iPad|Mac OS X|Linux)/.exec(agent)
  const known = [name && `${name[1]} ${name[2]}`, system?.[1]].filter(Boolean)
  return known.length ? known.join(', ') : agent
}

const UNSAFE = /[\u0000-\u001f\u007f-\u009f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff]/g

/** Text from outside with control and bidirectional characters made visible. */
export function visible(text: string): string {
  return text.replace(UNSAFE, (c) => `\\u{${c.charCodeAt(0).toString(16)}}`)
}
