// A day in quarters of an hour, as bars.
export interface Bar { at: string; x: number; height: number; value: number }

const HEIGHT = 56

/** Bars of ten units each, as high as the highest quarter makes them; a quarter with anything in it is seen. */
export function bars(day: { at: string; value: number }[]): { most: number; bars: Bar[] } {
  const most = day.reduce((m, q) => Math.max(m, q.value), 0)
  const height = (n: number) => (n ? Math.max(2, Math.round((n / most) * HEIGHT)) : 0)
  return { most, bars: day.map((q, i) => ({ at: q.at, x: i * 10 + 1, height: height(q.value), value: q.value })) }
}
