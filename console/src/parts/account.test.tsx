import { screen } from '@testing-library/react'
import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { shown } from '../testing/shown'
import { account } from '../pages/batch/BatchPage'
import { changeOf, valuesOf } from '../pages/device/EditDevice'
import { mapping } from '../pages/devices/ImportDevices'
import { rulesOf } from '../pages/settings/Rules'
import { placeOf } from '../app/Palette'
import { Account } from './Account'
import { Foreign, visible } from './Foreign'

const answer = (more: Partial<Schemas['Answer']>): Schemas['Answer'] =>
  ({ sha256: 'aa', leaf: 'gate-1', accepted: true, unmatched: false, chain: [], findings: [], trust: [], ...more }) as Schemas['Answer']

describe('an intake', () => {
  it('leads from each file to the request that it answers, and says what is kept as unmatched', () => {
    const intake = {
      files: [
        { name: 'one.pem', holds: [{ kind: 'certificate', sha256: 'aa' }] },
        { name: 'two.txt', holds: [{ kind: 'junk', note: 'nothing that is known' }] },
      ],
      answers: [
        answer({ replacement: 'r7', device: 'gate-1', slot: 'web' }),
        answer({ sha256: 'bb', leaf: 'old', accepted: false, unmatched: true, why: 'it was asked for anew' }),
      ],
    } as unknown as Schemas['Intake']
    shown(<Account intake={intake} />)
    expect(screen.getByRole('group', { name: 'Account of the files' }).textContent).toMatch(/2 files.*1 of 2 leaves accepted/)
    expect(screen.getByRole('link', { name: 'r7 gate-1/web' }).getAttribute('href')).toBe('/replacements/r7')
    expect(screen.getByText(/cannot be used/).textContent).toContain('nothing that is known')
    expect(screen.getByText('✕ matches no pending request; kept as unmatched')).toBeTruthy()
  })
})

describe('foreign text', () => {
  it('changes nothing around it', () => {
    expect(visible('gate\u202e\u200bx\r')).toBe('gate\\u202e\\u200bx\\u000d')
    shown(<Foreign>{'<img src=x onerror=alert(1)>'}</Foreign>)
    expect(screen.getByText('<img src=x onerror=alert(1)>').tagName).toBe('BDI')
  })
})

describe('what is sent', () => {
  const device = {
    name: 'gate-1',
    address: '192.0.2.1',
    site: '',
    family: 'web-files-ssh',
    access: [{ link: 'ssh', port: 22, user: 'keeper', credential: '', pin: 'k', address: '', options: {} }],
    owner: 'office',
    cluster: '',
    cluster_role: '',
    tags: ['a'],
    notes: '',
    settings: { folder: '/etc/x' },
  } as unknown as Schemas['Device']
  it('of a device is what was changed', () => {
    const before = valuesOf(device)
    expect(changeOf({}, before)).toEqual({})
    expect(changeOf({ owner: 'hall', tags: ' ', linkPort: '2222', password: 'p', settings: { folder: '/etc/x', reload: 'now' } }, before)).toEqual({
      owner: 'hall',
      tags: [' '],
      settings: { reload: 'now' },
      access: [{ link: 'ssh', port: 2222, password: 'p' }],
    })
  })
  it('of rules keeps what the form does not show, and says an emptied field no more', () => {
    expect(
      rulesOf({ margin_days: 7, signer: 'desk', short_names: true, quiet: 'x' } as never, {
        margin_days: '',
        renewal_days: '30',
        required_names: 'a.example, b.example',
        short_names: false,
      }),
    ).toEqual({ signer: 'desk', short_names: false, quiet: 'x', renewal_days: 30, required_names: ['a.example', 'b.example'] })
  })
  it('of an import maps the columns', () => {
    expect(mapping('name=Hostname\n\nsite = Place\nbroken')).toEqual({ name: 'Hostname', site: 'Place' })
  })
})

describe('words', () => {
  it('tell where a batch stands, and where a hit is', () => {
    expect(account({ slots: 1204, waiting: 0, refused: 2, left: 0, under_way: 1, held: 0, sealed: 1201, reverted: 0, cancelled: 0, closed: 0 })).toBe(
      '1,201 sealed, 1 under way, 2 refused',
    )
    expect(placeOf({ kind: 'slot', name: 'gate 1/web', about: '' })).toBe('/slots/gate%201/web')
    expect(placeOf({ kind: 'site', name: 'Gannet Point', about: '' })).toBe('/slots?site=Gannet%20Point')
  })
})
