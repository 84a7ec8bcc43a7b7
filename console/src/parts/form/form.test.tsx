import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { describe, expect, it, vi } from 'vitest'
import * as v from 'valibot'
import { ApiError } from '../../api/client'
import { answering, shown } from '../../testing/shown'
import { HostKey, placeOf } from '../HostKey'
import { Field } from './Field'
import { FormDialog } from './FormDialog'
import { useTyped } from './Form'

const schema = v.object({ name: v.pipe(v.string(), v.nonEmpty('Name is needed.')), owner: v.string() })
const start = { name: 'gate-1', owner: 'office' }

function dialog(send: (x: typeof start, changed: Partial<typeof start>) => Promise<unknown>, more: { close?: () => void; look?: () => Promise<typeof start> } = {}) {
  const { look } = more
  shown(
    <FormDialog
      title="Edit"
      schema={schema}
      start={start}
      submit="Save"
      of="devices"
      send={send}
      close={more.close ?? (() => undefined)}
      {...(look && { guard: { labels: { name: 'Name', owner: 'Owner' }, look } })}
    >
      <Field name="name" label="Name" />
      <Field name="owner" label="Owner" />
    </FormDialog>,
  )
}

describe('a form in a dialog', () => {
  it('is sent by Enter, with what was changed alone', async () => {
    const send = vi.fn().mockResolvedValue({})
    const close = vi.fn()
    dialog(send, { close })
    await userEvent.clear(screen.getByLabelText('Owner'))
    await userEvent.type(screen.getByLabelText('Owner'), 'data hall{Enter}')
    await waitFor(() => {
      expect(close).toHaveBeenCalled()
    })
    expect(send.mock.calls[0]).toEqual([{ name: 'gate-1', owner: 'data hall' }, { owner: 'data hall' }])
  })

  it('says what is wrong at the field, in the words of its label', async () => {
    const send = vi.fn().mockRejectedValue(new ApiError(422, 'the device cannot be changed', 'the owner is unknown', '', [{ do: 'give', about: 'owner' }]))
    dialog(send)
    await userEvent.clear(screen.getByLabelText('Name'))
    await userEvent.keyboard('{Enter}')
    await screen.findByText('Name is needed.')
    expect(send).not.toHaveBeenCalled()
    await userEvent.type(screen.getByLabelText('Name'), 'gate-2{Enter}')
    await waitFor(() => {
      expect(screen.getByLabelText('Owner').getAttribute('aria-invalid')).toBe('true')
    })
    expect(screen.getByRole('alert').textContent).toContain('The owner is unknown')
  })

  it('throws nothing away without asking', async () => {
    const close = vi.fn()
    dialog(() => Promise.resolve({}), { close })
    await userEvent.type(screen.getByLabelText('Name'), 'x')
    await userEvent.keyboard('{Escape}')
    await screen.findByText('What you typed is not saved.')
    expect(close).not.toHaveBeenCalled()
    await userEvent.click(screen.getByRole('button', { name: 'Keep typing' }))
    expect(screen.getByLabelText('Name')).toHaveProperty('value', 'gate-1x')
    await userEvent.keyboard('{Escape}')
    await userEvent.click(await screen.findByRole('button', { name: 'Discard' }))
    expect(close).toHaveBeenCalledOnce()
  })

  it('shows what somebody else changed meanwhile, and lets either be taken', async () => {
    const send = vi.fn().mockRejectedValueOnce(new ApiError(412, 'nothing was changed')).mockResolvedValueOnce({})
    dialog(send, { look: () => Promise.resolve({ name: 'gate-9', owner: 'terminal' }) })
    await userEvent.type(screen.getByLabelText('Owner'), ' two{Enter}')
    await screen.findByText('Somebody else changed it since you opened it')
    expect(screen.getByText(/Name: now/).textContent).toContain('gate-9')
    await userEvent.click(screen.getByLabelText('yours: office two'))
    await userEvent.click(screen.getByRole('button', { name: 'Go on with this' }))
    expect(screen.getByLabelText('Name')).toHaveProperty('value', 'gate-9')
    await userEvent.click(screen.getByRole('button', { name: 'Save' }))
    await waitFor(() => {
      expect(send).toHaveBeenCalledTimes(2)
    })
    expect(send.mock.calls[1]).toEqual([{ name: 'gate-9', owner: 'office two' }, { owner: 'office two' }])
  })
})

describe('a host key', () => {
  const fields = v.object({ address: v.string(), pin: v.string(), pinnedAt: v.string() })
  function Fields() {
    const x = useTyped<v.InferOutput<typeof fields>>()
    return (
      <>
        <Field name="address" label="Address" />
        <HostKey at={{ site: '', address: x.address, port: '22' }} what="The device" />
      </>
    )
  }

  it('belongs to the address that showed it: another one asks again', async () => {
    answering({ 'POST /api/v1/host-keys': (_, body) => ({ body: { host_key: `ssh-ed25519 of ${(JSON.parse(body) as { address: string }).address}` } }) })
    const at = placeOf({ site: '', address: '192.0.2.1', port: '22' })
    shown(
      <FormDialog
        title="Edit"
        schema={fields}
        start={{ address: '192.0.2.1', pin: 'ssh-ed25519 old', pinnedAt: at }}
        submit="Save"
        of="devices"
        send={() => Promise.resolve({})}
        close={() => undefined}
      >
        <Fields />
      </FormDialog>,
    )
    expect(screen.getByRole('group', { name: 'Host key' }).textContent).toContain('Host key of The device')
    await userEvent.type(screen.getByLabelText('Address'), '7')
    await screen.findByText(/was shown at another place/)
    await userEvent.click(screen.getByRole('button', { name: 'Ask for its host key' }))
    await screen.findByText('ssh-ed25519 of 192.0.2.17')
    await userEvent.click(screen.getByRole('button', { name: 'The key is correct' }))
    await waitFor(() => {
      expect(screen.getByRole('group', { name: 'Host key' }).textContent).toContain('Host key of The device: ssh-ed25519 of 192.0.2.17')
    })
    await userEvent.type(screen.getByLabelText('Address'), '{Backspace}')
    await screen.findByText(/was shown at another place/)
  })
})
