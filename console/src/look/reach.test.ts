import { expect, test } from 'vitest'
import { described, MACHINE, type ReachForm } from './reach'

const form: ReachForm = { to: ' 10.80.4.7:22 ', gate: 'yard', provider: '', person: '', groups: '', at: '', draft: false }

test('nobody is asked about where no way in is chosen', () => {
  expect(described({ ...form, person: 'left over', groups: 'fitters' })).toEqual({ to: '10.80.4.7:22', gate: 'yard', source: { draft: false }, person: null })
})

test('whoever is on with a machine is asked for by what it is known by', () => {
  const asked = described({ ...form, provider: MACHINE, machine: ' 10.70.0.9 ', person: 'left over' })
  expect(asked).toMatchObject({ person: null, machine: '10.70.0.9', at: null })
})

test('somebody known goes before somebody described', () => {
  const asked = described({ ...form, provider: 'pilotage', person: ' p-1001 ', groups: 'fitters' })
  expect(asked.person).toMatchObject({ provider: 'pilotage', subject: 'p-1001' })
  expect(asked.person).not.toHaveProperty('groups')
})

test('somebody comes by a tunnel where an entrance is chosen, and says what stands in the form', () => {
  const by = { ...form, provider: 'pilotage', groups: 'pilots', entrance: 'pilots', platform: ' linux ', version: '', profile: true }
  expect(described(by).person).toMatchObject({ tunnel: { entrance: 'pilots', platform: 'linux', version: undefined, profile: true } })
  expect(described({ ...by, entrance: '' }).person).not.toHaveProperty('tunnel')
  expect(described({ ...by, provider: '' }).person).toBe(null)
})

test('groups are listed with commas, and the moment is told with its zone', () => {
  const asked = described({ ...form, provider: 'pilotage', groups: 'fitters, , planners', at: '2026-12-01T23:00', draft: true })
  expect(asked.person).toMatchObject({ groups: ['fitters', 'planners'], at: new Date('2026-12-01T23:00').toISOString(), source: { draft: true } })
})
