import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { describe, expect, it } from 'vitest'
import type { ServedList } from '../../api/lists'
import { shown as page } from '../../testing/shown'
import { narrowed } from '../useFilter'
import { List } from './List'
import { chosen, none, pageToggled, toggled, type Choice } from './choice'
import type { Column } from './columns'
import { Cursors, shown } from './paging'

const all = Array.from({ length: 5001 }, (_, i) => ({ name: `box-${i + 1}` }))

/** served gives rows by a cursor, which is the number of the row before, as the service does. */
const served = (asked: string[]): ServedList<{ name: string }> => ({
  name: 'Boxes',
  keyed: ['boxes'],
  filters: [],
  load: () => (wanted) => {
    const from = Number(wanted.cursor ?? 0) + Number(wanted.skip ?? 0)
    const limit = Number(wanted.limit)
    asked.push(`${from}+${limit}`)
    const items = all.slice(from, from + limit)
    return Promise.resolve({ items, total: all.length, ...(from + limit < all.length && { next: String(from + limit) }) })
  },
})

const columns: Column<{ name: string }>[] = [{ field: 'name', title: 'Box', sorts: true, always: true, narrow: true, cell: (r) => r.name }]

describe('a list of 5,001', () => {
  it('turns its pages, says which rows are shown, and keeps the page in the address', async () => {
    const asked: string[] = []
    const router = page(<List list={served(asked)} filter={{}} columns={columns} id={(r) => r.name} empty="none" />)
    await screen.findByText('1 to 50 of 5,001')
    await userEvent.click(screen.getByRole('button', { name: 'Next page' }))
    await screen.findByText('51 to 100 of 5,001')
    expect(screen.getByText('box-51')).toBeTruthy()
    expect(router.state.location.search).toBe('?page=2')
    await router.navigate(-1)
    await screen.findByText('1 to 50 of 5,001')
    await userEvent.click(screen.getByRole('button', { name: /Last page/ }))
    await screen.findByText('5,001 to 5,001 of 5,001')
    expect(screen.getByText('box-5001')).toBeTruthy()
    expect(screen.getByRole('button', { name: 'Next page' })).toHaveProperty('disabled', true)
  })

  it('opens at the page of an address that somebody else gave, and says so where there is none', async () => {
    page(<List list={served([])} filter={{}} columns={columns} id={(r) => r.name} empty="none" />, '/?page=33')
    await screen.findByText('1,601 to 1,650 of 5,001')
    page(<List list={served([])} filter={{}} columns={columns} id={(r) => r.name} empty="nothing here" />, '/?page=900')
    await screen.findByText('nothing here')
  })

  it('begins at page one when it is sorted, and is moved through by keys', async () => {
    const router = page(
      <List list={served([])} filter={{}} columns={columns} id={(r) => r.name} open={(r) => void router.navigate(`/?opened=${r.name}`)} empty="none" />,
      '/?page=2',
    )
    await screen.findByText('51 to 100 of 5,001')
    await userEvent.click(screen.getByRole('button', { name: 'Box' }))
    await waitFor(() => {
      expect(router.state.location.search).toBe('?sort=name')
    })
    await screen.findByText('1 to 50 of 5,001')
    const first = screen.getByText('box-1').closest('tr')
    first?.focus()
    await userEvent.keyboard('{ArrowDown}{Enter}')
    await waitFor(() => {
      expect(router.state.location.search).toBe('?opened=box-2')
    })
  })

  it('hides columns, and remembers it', async () => {
    const two: Column<{ name: string }>[] = [...columns, { field: 'length', title: 'Length', cell: (r) => r.name.length }]
    page(<List list={served([])} filter={{}} columns={two} id={(r) => r.name} empty="none" />)
    await screen.findByRole('columnheader', { name: 'Length' })
    await userEvent.click(screen.getByRole('button', { name: 'Columns' }))
    await userEvent.click(screen.getByRole('menuitemcheckbox', { name: 'Length' }))
    expect(screen.queryByRole('columnheader', { name: 'Length', hidden: true })).toBeNull()
    expect(window.localStorage.getItem('freshseal.columns.Boxes')).toBe('["length"]')
  })
})

describe('the way to a page', () => {
  it('goes on behind the page before, and counts rows where that was not shown', () => {
    const c = new Cursors(50)
    expect(c.of(1)).toEqual({})
    expect(c.of(101)).toEqual({ skip: '5000' })
    c.learn(3, '150')
    expect(c.of(4)).toEqual({ cursor: '150' })
  })
  it('is told in words', () => {
    expect([shown(1, 50, 17, 17), shown(2, 50, 50, undefined), shown(9, 50, 0, 17), shown(1, 50, 0, 0)]).toEqual(['1 to 17 of 17', '51 to 100', 'none of 17 on this page', ''])
  })
})

describe('what is chosen', () => {
  it('stays over pages, and all that fit is more than a page', () => {
    let c: Choice = none
    c = pageToggled(c, ['a', 'b'])
    c = toggled(c, 'z', ['y', 'z'])
    expect([...c.names]).toEqual(['a', 'b', 'z'])
    c = pageToggled(c, ['a', 'b'])
    expect([...c.names]).toEqual(['z'])
    const every: Choice = { all: true, names: new Set() }
    expect(chosen(every, 5001)).toBe(5001)
    expect([...toggled(every, 'a', ['a', 'b']).names]).toEqual(['b'])
    expect(pageToggled(every, ['a'])).toEqual(none)
  })
})

describe('a filter', () => {
  it('stands in the address, and begins at page one', () => {
    expect(narrowed(new URLSearchParams('page=7&site=Mainquay&sort=site'), { site: '', tag: 'gate' }).toString()).toBe('sort=site&tag=gate')
  })
})
