import { expect, test } from 'vitest'
import type { EntranceTrial, Gate } from '../api'
import { entrancesOf, whom } from './entrance'

test('entrances are chosen from, and RADIUS clients are none', () => {
  const zone = (name: string, entrance: boolean) => ({ name, words: '', entrance })
  const gates = [{ name: 'tunnel', zones: [zone('pilots', true), zone('quay-gateway', false)] }, { name: 'yard', zones: [zone('yard', false)] }] as Gate[]
  expect(entrancesOf(gates)).toEqual([{ title: 'pilots (tunnel)', value: { gate: 'tunnel', entrance: 'pilots' } }])
})

test('whom a trial is about is told as far as it was said', () => {
  const t = (key: string, named?: Record<string, string>) => (named ? `from ${named.address}` : key)
  const of = (from: string | null, person: string | null) => whom({ from, person } as EntranceTrial, t)
  expect(of('198.51.100.7', 'Anouk\u202e')).toBe('Anouk\\u{202e}, from 198.51.100.7')
  expect(of(null, 'Anouk')).toBe('Anouk')
  expect(of('198.51.100.7', null)).toBe('from 198.51.100.7')
  expect(of(null, null)).toBe('entranceTrial.anybody')
})
