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
import { policiesQuery, queryClient, signersQuery } from '../../api/queries'
import { Panel } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'

type Policy = Schemas['Policy']

const numbers = [
  ['renewal_days', 'Due so many days before the end'],
  ['margin_days', 'Safety margin (days)'],
  ['turnaround_days', 'Days that the signer takes'],
  ['max_lifetime_days', 'Maximum lifetime (days; 0: any)'],
  ['min_rsa_bits', 'Smallest RSA key, bits'],
  ['min_ec_bits', 'Smallest key on a curve, bits'],
] as const

const switches = [
  ['short_names', 'Ask for short names too'],
  ['address_names', 'Ask for addresses too'],
  ['cluster_names', 'Ask for the names of the cluster too'],
  ['keep_keys', 'Keep keys that were made here'],
  ['weak_keys', 'It can do no better than RSA 1024'],
] as const

/** Rules shows the policy of the fleet, and where sites and devices differ from it. */
export function Rules() {
  const all = useQuery(policiesQuery)
  const [scope, setScope] = useState('')
  if (all.error) return <Problem error={all.error} />
  return (
    <Panel title="Policy">
      {(all.data ?? []).map((p) => (
        <Rule key={p.scope} policy={p} />
      ))}
      <Box component="form" aria-label="Rules for another scope" sx={{ display: 'flex', gap: 1, pt: 2, flexWrap: 'wrap' }} onSubmit={(e) => {
        e.preventDefault()
        queryClient.setQueryData(policiesQuery.queryKey, [...(all.data ?? []).filter((p) => p.scope !== scope), { scope, rules: {} }])
        setScope('')
      }}>
        <TextField size="small" label="Rules of its own for site/NAME or device/NAME" value={scope} onChange={(e) => setScope(e.target.value)} sx={{ width: 340 }} />
        <Button type="submit" variant="outlined" disabled={!/^(site|device)\/./.test(scope)}>
          Begin
        </Button>
      </Box>
    </Panel>
  )
}

function Rule({ policy }: { policy: Policy }) {
  const [rules, setRules] = useState(policy.rules)
  const signers = useQuery(signersQuery)
  const save = useMutation({
    mutationFn: () => take(api.PUT('/api/v1/policies', { body: { scope: policy.scope, rules } })),
    onSuccess: () => queryClient.invalidateQueries(),
  })
  const changed = JSON.stringify(rules) !== JSON.stringify(policy.rules)
  return (
    <Box sx={{ py: 1.5, borderBottom: 1, borderColor: 'divider', display: 'grid', gap: 1.5 }} aria-label={`Rules of ${policy.scope}`}>
      <Typography sx={{ fontWeight: 600 }}>{policy.scope}</Typography>
      <Box sx={{ display: 'grid', gap: 1.5, gridTemplateColumns: { xs: '1fr', sm: 'repeat(2, 1fr)', md: 'repeat(4, 1fr)' } }}>
        {numbers.map(([name, label]) => (
          <TextField
            key={name}
            size="small"
            type="number"
            label={label}
            value={rules[name] ?? ''}
            onChange={(e) => {
              const { [name]: _, ...others } = rules
              setRules(e.target.value === '' ? others : { ...rules, [name]: Number(e.target.value) })
            }}
          />
        ))}
        <TextField select size="small" label="Approved before a change by" value={rules.approval ?? ''} onChange={(e) => setRules({ ...rules, approval: e.target.value as 'nobody' })}>
          <MenuItem value="nobody">nobody</MenuItem>
          <MenuItem value="anybody">any operator</MenuItem>
          <MenuItem value="another">another than who asked</MenuItem>
        </TextField>
        <TextField select size="small" label="Default signer" slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} value={rules.signer ?? ''} onChange={(e) => setRules({ ...rules, signer: e.target.value })}>
          <MenuItem value="">nobody</MenuItem>
          {(signers.data ?? []).map((s) => (
            <MenuItem key={s.name} value={s.name}>
              {s.name}
            </MenuItem>
          ))}
        </TextField>
        <TextField select size="small" label="A replacement's key" value={rules.renewal_key ?? ''} onChange={(e) => setRules({ ...rules, renewal_key: e.target.value as 'new' })}>
          <MenuItem value="new">is a new one</MenuItem>
          <MenuItem value="same">is the one in use, where that can be</MenuItem>
        </TextField>
        <TextField size="small" label="Names that every leaf must have" value={(rules.required_names ?? []).join(' ')} onChange={(e) => setRules({ ...rules, required_names: e.target.value.split(' ').filter(Boolean) })} />
        <TextField size="small" label="Services whose names are asked for" value={(rules.name_prefixes ?? []).join(' ')} onChange={(e) => setRules({ ...rules, name_prefixes: e.target.value.split(' ').filter(Boolean) })} />
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2 }}>
        {switches
          .filter(([name]) => name !== 'weak_keys' || policy.scope.startsWith('device/'))
          .map(([name, label]) => (
            <FormControlLabel key={name} label={label} control={<Checkbox size="small" checked={rules[name] ?? false} onChange={(e) => setRules({ ...rules, [name]: e.target.checked })} />} />
          ))}
      </Box>
      {changed && (
        <Button variant="contained" sx={{ justifySelf: 'start' }} disabled={save.isPending} onClick={() => save.mutate()}>
          Save, and judge the fleet anew
        </Button>
      )}
      {save.error && <Problem error={save.error} />}
    </Box>
  )
}
