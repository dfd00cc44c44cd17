import { effectScope, nextTick, ref } from 'vue'
import { describe, expect, it } from 'vitest'
import { ApiProblem, found, language, problemOf } from '.'
import { useActing, usePages, useReading } from './asking'

/** A call whose answer the test gives when it likes. */
function calls<T>() {
  const open: { answer: (t: T) => void; fail: (e: unknown) => void }[] = []
  const call = () => new Promise<T>((answer, fail) => open.push({ answer, fail }))
  return { open, call }
}
const settled = async () => { for (let i = 0; i < 5; i++) await nextTick() }
const refused = new ApiProblem({ title: 'Refused', detail: 'No.' }, 403)

describe('reading', () => {
  it('waits until something was answered, and shows what was asked last whatever comes first', async () => {
    const { open, call } = calls<string>()
    const about = ref('one')
    const reading = effectScope().run(() => useReading(call, [about]))!
    expect([reading.waits, reading.data]).toEqual([true, undefined])
    about.value = 'two'
    await settled()
    open[1]!.answer('of two')
    await settled()
    open[0]!.answer('of one')
    await settled()
    expect([reading.waits, reading.busy, reading.data]).toEqual([false, false, 'of two'])
  })
  it('never waits for ever: a refusal is told, and trying again reads anew', async () => {
    const { open, call } = calls<string>()
    const reading = effectScope().run(() => useReading(call))!
    open[0]!.fail(refused)
    await settled()
    expect([reading.waits, reading.busy, reading.problem?.title]).toEqual([false, false, 'Refused'])
    reading.again()
    expect([reading.waits, reading.problem]).toEqual([true, undefined])
    open[1]!.answer('there')
    await settled()
    expect([reading.waits, reading.data]).toEqual([false, 'there'])
  })
  it('keeps what it shows while it reads again, and when that is refused', async () => {
    const { open, call } = calls<string>()
    const reading = effectScope().run(() => useReading(call))!
    open[0]!.answer('before')
    await settled()
    language.value = 'fr'
    await settled()
    expect([open.length, reading.busy, reading.waits, reading.data]).toEqual([2, true, false, 'before'])
    open[1]!.fail(refused)
    await settled()
    expect([reading.data, reading.problem?.status]).toEqual(['before', 403])
    language.value = 'en'
  })
  it('counts an answer that is nothing as one', async () => {
    const reading = effectScope().run(() => useReading(async () => undefined))!
    await settled()
    expect([reading.answered, reading.waits, reading.data]).toEqual([true, false, undefined])
  })
})

describe('a list page by page', () => {
  it('goes on after the last page, and begins anew with whatever it is of', async () => {
    const { open, call } = calls<{ of: string; n: number }>()
    const asked: (number | undefined)[] = []
    const filter = ref('all')
    const list = effectScope().run(() => usePages((last?: { of: string; n: number }) => { asked.push(last?.n); return call() }, [filter]))!
    open[0]!.answer({ of: 'all', n: 1 })
    await settled()
    const more = list.more()
    open[1]!.answer({ of: 'all', n: 2 })
    await more
    expect([list.all.map((p) => p.n), list.last?.n, asked]).toEqual([[1, 2], 2, [undefined, 1]])
    const late = list.more()
    filter.value = 'few'
    await settled()
    open[3]!.answer({ of: 'few', n: 9 })
    await settled()
    open[2]!.answer({ of: 'all', n: 3 })
    await late
    expect(list.all.map((p) => p.of), 'a page of another list').toEqual(['few'])
  })
  it('keeps what it has where a further page is refused', async () => {
    const { open, call } = calls<number>()
    const list = effectScope().run(() => usePages(call))!
    open[0]!.answer(1)
    await settled()
    const more = list.more()
    open[1]!.fail(refused)
    await more
    expect([list.all, list.first.problem, list.acting.problem?.status]).toEqual([[1], undefined, 403])
  })
})

describe('acting', () => {
  it('reads again what it changed, and not where it was refused', async () => {
    let read = 0
    const acting = useActing({ again: async () => { read += 1 } })
    await acting.act(async () => {})
    await acting.act(async () => { throw refused })
    expect([read, acting.problem?.status]).toEqual([1, 403])
  })
  it('is busy until it is answered, says whether it was done, and does the same again', async () => {
    const { open, call } = calls<void>()
    const acting = useActing()
    const first = acting.act(call)
    expect(acting.busy).toBe(true)
    open[0]!.fail(refused)
    expect([await first, acting.busy, acting.problem?.title]).toEqual([false, false, 'Refused'])
    const second = acting.again()
    open[1]!.answer()
    expect([await second, acting.problem]).toEqual([true, undefined])
  })
})

describe('what was thrown', () => {
  it('is the problem of the service, or one of the console, and never nothing', () => {
    expect(problemOf(refused)).toBe(refused)
    expect(problemOf(new TypeError('x is undefined'))).toMatchObject({ title: 'The console failed', message: 'x is undefined', status: -1 })
    expect(problemOf('so').message).toBe('so')
  })
  it('is no problem where there may be none', async () => {
    const answer = (status: number) => Promise.resolve({ error: { title: 'None' }, response: new Response(null, { status }) })
    expect(await found(answer(404))).toBe(undefined)
    await expect(found(answer(403))).rejects.toMatchObject({ status: 403, title: 'None' })
    await expect(found(Promise.reject(new Error('cut')))).rejects.toMatchObject({ status: 0, title: 'No answer' })
  })
})
