import { describe, expect, it } from 'vitest'
import type { Outcome } from '../api'
import { bearingTone, browser, bytes, moment, outcomeTone, span, visible } from './shape'
import { messages } from '../words'
import enText from '../words/en.json?raw'
import frText from '../words/fr.json?raw'

describe('the look', () => {
  it('gives every outcome a tone, and only admitted the one of passing', () => {
    const tones = (Object.keys(messages.en.outcomes) as Outcome[]).map((o) => [o, outcomeTone(o)])
    expect(tones.filter(([, tone]) => tone === 'pass').map(([o]) => o)).toEqual(['admitted'])
    expect(bearingTone('stop')).toBe('stop')
    expect(bearingTone('fact')).toBe('quiet')
  })
  it('shows spans and sizes in units a person reads', () => {
    expect([span(7), span(1500), span(900_000)]).toEqual(['7 ms', '1.5 s', '15 min'])
    expect([bytes(0), bytes(1023), bytes(1536), bytes(5 * 1024 ** 3)]).toEqual(['0 B', '1023 B', '1.5 KiB', '5.0 GiB'])
  })
  it('names a browser shortly and leaves what it does not know as it is', () => {
    expect(browser('Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) HeadlessChrome/156.0.0.0 Safari/537.36')).toBe('Chrome 156, Linux')
    expect(browser('curl/7.88')).toBe('curl/7.88')
  })
  it('leaves the day out for today only', () => {
    const now = new Date(2026, 10, 24, 12)
    expect(moment(new Date(2026, 10, 24, 8, 5, 6).toISOString(), 'en-GB', now)).toBe('08:05:06')
    expect(moment(new Date(2026, 10, 23, 8, 5, 6).toISOString(), 'en-GB', now)).toContain('23 Nov')
  })
  it('makes characters that hide or reorder text visible', () => {
    expect(visible('pay\u202Egpj\u001b[2J')).toBe('pay\\u{202e}gpj\\u{1b}[2J')
    expect(visible('Élodie Kœnig 港')).toBe('Élodie Kœnig 港')
  })
})

describe('the words', () => {
  it('are there in both languages, with the same places for values', () => {
    const flat = (o: object, at = ''): [string, string][] =>
      Object.entries(o).flatMap(([k, v]) => (typeof v === 'string' ? [[at + k, v] as [string, string]] : flat(v as object, `${at}${k}.`)))
    const places = (s: string) => [...s.matchAll(/\{\w+\}/g)].map((m) => m[0]).sort()
    const fr = new Map(flat(messages.fr))
    for (const [key, words] of flat(messages.en)) {
      expect(fr.has(key), key).toBe(true)
      expect([...new Set(places(fr.get(key)!))], key).toEqual([...new Set(places(words))])
    }
  })
  it('have a word for whatever a page says, and none is written twice', () => {
    const pages = import.meta.glob<string>(['../**/*.vue', '../**/*.ts', '!../**/*.test.ts'], { query: '?raw', import: 'default', eager: true })
    const word = (key: string) => key.split('.').reduce<unknown>((at, part) => (at as Record<string, unknown> | undefined)?.[part], messages.en)
    const said = Object.entries(pages).flatMap(([page, text]) => [...text.matchAll(/\bt\('([\w.]+)'/g)].map((m) => [page, m[1]!] as const))
    expect(said.length).toBeGreaterThan(300)
    expect(said.filter(([, key]) => word(key) === undefined)).toEqual([])
    for (const [language, raw] of Object.entries({ en: enText, fr: frText })) {
      const flat = (o: object): number => Object.values(o).reduce<number>((n, v) => n + 1 + (typeof v === 'string' ? 0 : flat(v as object)), 0)
      expect([...raw.matchAll(/^\s*"[^"]+":/gm)].length, language).toBe(flat(JSON.parse(raw)))
    }
  })
})
