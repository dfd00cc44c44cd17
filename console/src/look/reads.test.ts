import { describe, expect, it } from 'vitest'
import { about, lineOf, secretOf, upTo, wholeMoment } from './reads'

describe('what pages compute', () => {
  it('tells what an act was about without what is empty', () => {
    expect(about({ about: { edition: 3, unconfirmed: null, gates: [], new_keys: ['a', 'b'] }, people: ['Anouk Riou'] })).toBe('edition 3; new keys a, b; Anouk Riou')
    expect(about({ about: {}, people: [] })).toBe('')
  })
  it('takes a whole date only', () => {
    expect(wholeMoment('2026-11-30T10:20')).toBe(new Date(2026, 10, 30, 10, 20).toISOString())
    for (const part of ['2026-11-', '2026-11-30', '2026-13-45T10:20', 'soon', '', undefined]) expect(wholeMoment(part), part).toBe(undefined)
  })
  it('reads a keytab as bytes and everything else as text', () => {
    expect(secretOf(new Uint8Array([5, 2, 0, 255]))).toBe('BQIA/w==')
    expect(secretOf(new TextEncoder().encode('neap tide\r\n'))).toBe('neap tide')
    expect(secretOf(new TextEncoder().encode('two\nlines\n\n'))).toBe('two\nlines\n')
    expect(secretOf(new Uint8Array())).toBe('')
  })
  it('finds a line, the first, an empty one, and none past the end', () => {
    const text = 'one\n\nthree'
    expect([lineOf(text, 1), lineOf(text, 2), lineOf(text, 3), lineOf(text, 9)]).toEqual([[0, 3], [4, 4], [5, 10], [10, 10]])
  })
  it('lets nobody give more than they have', () => {
    expect([upTo('view'), upTo('configure'), upTo('nothing')]).toEqual([['view'], ['view', 'operate', 'configure'], []])
  })
})
