import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { queryClient, signersQuery } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

type Signer = Schemas['Signer']
type Way = NonNullable<Schemas['Proof']['how']>
const proofs: Record<Way, string> = { mail: 'by mail', dns: 'by a DNS record', file: 'by a file' }
const blank: Signer = { name: '', kind: 'desk', about: '', terms: { wildcards: true, addresses: true }, proof: {} }

/** Signers are those who sign requests, with what the person at the desk must know of each. */
export function Signers() {
  const all = useQuery(signersQuery)
  const [editing, setEditing] = useState<Signer>()
  if (all.error) return <Problem error={all.error} />
  return (
    <Panel title="Signers" action={<Button size="small" onClick={() => setEditing(editing ? undefined : blank)}>{editing ? 'Close' : 'Add a signer'}</Button>}>
      {(all.data ?? []).map((s) => (
        <SignerRow key={s.name} s={s} edit={() => setEditing(s)} />
      ))}
      {editing && <EditSigner key={editing.name} was={editing} close={() => setEditing(undefined)} />}
    </Panel>
  )
}

function SignerRow({ s, edit }: { s: Signer; edit: () => void }) {
  const [sure, setSure] = useState(false)
  const remove = useMutation({ mutationFn: () => take(api.DELETE('/api/v1/signers/{name}', { params: { path: { name: s.name } } })), onSettled: () => queryClient.invalidateQueries() })
  const own = s.name !== 'bench' && s.name !== 'desk'
  const facts = [
    s.contact,
    s.turnaround_days && `${s.turnaround_days} working days`,
    s.max_days && `certificates of up to ${s.max_days} days`,
    s.terms.public && 'publicly trusted',
    s.proof.how && `domains are proven ${proofs[s.proof.how]}${s.proof.who ? `, ${s.proof.who} does it` : ''}`,
  ].filter(Boolean)
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, py: 1, alignItems: 'baseline', borderBottom: 1, borderColor: 'divider' }}>
      <Typography sx={{ fontWeight: 600, minWidth: 110 }}>{s.name}</Typography>
      <Box sx={{ flexGrow: 1, flexBasis: 300, minWidth: 0 }}>
        {s.about}
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          {facts.join('; ')}
        </Typography>
        {s.notes && (
          <Typography variant="body2" sx={{ whiteSpace: 'pre-line' }}>
            {s.notes}
          </Typography>
        )}
      </Box>
      {own && (
        <>
          <Button size="small" onClick={edit}>
            Edit
          </Button>
          <Button size="small" color="error" onClick={() => setSure(true)}>
            Remove
          </Button>
        </>
      )}
      {remove.error && <Problem error={remove.error} />}
      {sure && <Confirm question={`Forget the signer ${s.name}?`} yes="Remove" act={() => remove.mutate()} close={() => setSure(false)} />}
    </Box>
  )
}

function EditSigner({ was, close }: { was: Signer; close: () => void }) {
  const [s, setS] = useState(was)
  const save = useMutation({
    mutationFn: () => {
      const { name, kind: _, ...terms } = s
      return take(api.PUT('/api/v1/signers/{name}', { params: { path: { name } }, body: terms }))
    },
    onSuccess: async () => {
      await queryClient.invalidateQueries()
      close()
    },
  })
  const text = (label: string, value: string | undefined, set: (text: string) => Signer, more = {}) => (
    <TextField size="small" label={label} value={value ?? ''} autoComplete="off" onChange={(e) => setS(set(e.target.value))} {...more} />
  )
  const number = (label: string, value: number | undefined, set: (n: number) => Signer) => (
    <TextField size="small" type="number" label={label} value={value || ''} onChange={(e) => setS(set(Number(e.target.value)))} />
  )
  const box = (label: string, value: boolean | undefined, set: (on: boolean) => Signer) => (
    <FormControlLabel label={label} control={<Checkbox size="small" checked={value ?? false} onChange={(e) => setS(set(e.target.checked))} />} />
  )
  return (
    <Box component="form" aria-label="A signer" onSubmit={(e) => { e.preventDefault(); save.mutate() }} sx={{ display: 'grid', gap: 1.5, pt: 2, gridTemplateColumns: { xs: '1fr', sm: 'repeat(3, 1fr)' } }}>
      {text('Name', s.name, (name) => ({ ...s, name }), { disabled: was.name !== '', required: true })}
      {text('Who that is', s.about, (about) => ({ ...s, about }))}
      {text('Whom to ask', s.contact, (contact) => ({ ...s, contact }))}
      {number('Working days until it answers', s.turnaround_days, (turnaround_days) => ({ ...s, turnaround_days }))}
      {number('Longest certificate, days', s.max_days, (max_days) => ({ ...s, max_days }))}
      {text('Profile to pick', s.terms.profile, (profile) => ({ ...s, terms: { ...s.terms, profile } }))}
      <TextField select size="small" label="Domains are proven" slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} value={s.proof.how ?? ''} onChange={(e) => setS({ ...s, proof: { ...s.proof, how: (e.target.value || undefined) as Way | undefined } })}>
        <MenuItem value="">not at all</MenuItem>
        {Object.entries(proofs).map(([how, words]) => (
          <MenuItem key={how} value={how}>
            {words}
          </MenuItem>
        ))}
      </TextField>
      {text('Who does that', s.proof.who, (who) => ({ ...s, proof: { ...s.proof, who } }))}
      {number('Days that such a proof holds', s.proof.days, (days) => ({ ...s, proof: { ...s.proof, days } }))}
      {text('The steps of its portal, and what else the person at the desk must know', s.notes, (notes) => ({ ...s, notes }), { multiline: true, minRows: 2, sx: { gridColumn: '1 / -1' } })}
      <Box sx={{ gridColumn: '1 / -1' }}>
        {box('Publicly trusted', s.terms.public, (on) => ({ ...s, terms: { ...s.terms, public: on } }))}
        {box('Signs wildcards', s.terms.wildcards, (wildcards) => ({ ...s, terms: { ...s.terms, wildcards } }))}
        {box('Signs addresses', s.terms.addresses, (addresses) => ({ ...s, terms: { ...s.terms, addresses } }))}
        <Button type="submit" variant="contained" disabled={!s.name || save.isPending}>
          Save
        </Button>
        {save.error && <Problem error={save.error} />}
      </Box>
    </Box>
  )
}
