import { number } from '../../parts/words'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useNavigate } from 'react-router'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { signersQuery } from '../../api/queries'
import { Choice, Tick } from '../../parts/form/Field'
import { command, option } from '../../parts/command'
import { FormDialog } from '../../parts/form/FormDialog'
import { useTyped } from '../../parts/form/Form'
import { FieldGrid } from '../../parts/Panel'
import { Problem } from '../../parts/Problem'
import type { Filter } from '../../api/lists'
import { Rehearsal } from '../slot/Rehearsal'

const schema = v.object({ signer: v.string(), key: v.string(), unseen: v.boolean(), oneWay: v.boolean() })
type Terms = v.InferOutput<typeof schema>

export const keyTypes = ['ecdsa-p256', 'ecdsa-p384', 'rsa-2048', 'rsa-3072', 'rsa-4096'].map((k) => ({
  value: k,
  label: k,
}))

type Which = { slots: string[] | undefined; filter: Filter }

function orderOf({ slots, filter }: Which, t: Terms): Schemas['BatchOrder'] {
  return {
    ...(slots ? { slots } : { filter }),
    ...(t.signer && { signer: t.signer }),
    ...(t.key && { key: t.key }),
    ...(t.unseen && { unseen: true }),
    ...(t.oneWay && { one_way: true }),
  }
}

/**
 * BatchDialog asks for a replacement of many slots as one. The service begins them, also when the browser is closed.
 */
export function BatchDialog({ slots, filter, close }: Which & { close: () => void }) {
  const signers = useQuery(signersQuery).data ?? []
  const navigate = useNavigate()
  return (
    <FormDialog
      title="Replace many slots"
      wide
      schema={schema}
      start={{ signer: '', key: '', unseen: false, oneWay: false }}
      always
      submit="Start"
      said="The batch has started"
      command={
        (t) =>
          slots || Object.values(filter).some(Boolean)
            ? command(
                'batch',
                'start',
                ...(slots ?? []),
                ...(slots
                  ? []
                  : Object.entries(filter).flatMap(([name, value]) => option(name.replace('_', '-'), value))),
                ...option('by', t.signer),
                ...option('key', t.key),
                t.unseen && '--unseen',
                t.oneWay && '--one-way',
              )
            : '' // the client starts no batch of the whole fleet
      }
      of="batches"
      send={(t) => take(api.POST('/api/v1/batches', { body: orderOf({ slots, filter }, t) }))}
      done={(b) => void navigate(`/batches/${b.id}`)}
      close={close}
    >
      <Box sx={{ display: 'grid', gap: 2 }}>
        <FieldGrid>
          <Choice
            name="signer"
            label="Signer"
            options={[
              { value: '', label: 'the one that the policy names' },
              ...signers.map((s) => ({ value: s.name, label: s.about ? `${s.name}: ${s.about}` : s.name })),
            ]}
          />
          <Choice name="key" label="Key" options={[{ value: '', label: 'as the policy says' }, ...keyTypes]} />
        </FieldGrid>
        <Box>
          <Tick name="unseen" label="Start although a slot cannot be read: a revert can then not be proven" />
          <Tick name="oneWay" label="Start although some steps cannot be undone" />
        </Box>
        <Preview slots={slots} filter={filter} />
      </Box>
    </FormDialog>
  )
}

/** Preview counts the slots by site and rehearses one of them. */
function Preview(which: Which) {
  const typed = useTyped<Terms>()
  const rehearse = useMutation({
    mutationFn: () => take(api.POST('/api/v1/batches/rehearsals', { body: orderOf(which, typed) })),
  })
  const r = rehearse.data
  return (
    <Box sx={{ display: 'grid', gap: 1 }}>
      <Button
        variant="outlined"
        sx={{ justifySelf: 'start' }}
        disabled={rehearse.isPending}
        onClick={() => rehearse.mutate()}
      >
        Rehearse
      </Button>
      {rehearse.error && <Problem error={rehearse.error} />}
      {r && (
        <Box aria-label="Rehearsal of the batch" role="group" sx={{ display: 'grid', gap: 1 }}>
          <Typography>
            Nothing was sent. <strong>{number(r.slots)} slots</strong>:{' '}
            {r.sites.map((s) => `${s.site || 'no site'} ${number(s.count)}`).join(', ')}.
          </Typography>
          {r.watched > 0 && (
            <Typography sx={{ color: 'warning.main' }}>
              {number(r.watched)} of them are of devices without a family, and would be refused.
            </Typography>
          )}
          {r.why && (
            <Typography sx={{ color: 'error.main' }}>
              {r.sample} cannot be replaced: {r.why}
            </Typography>
          )}
          {r.rehearsal && (
            <>
              <Typography>One of them, {r.sample}:</Typography>
              <Rehearsal of={r.rehearsal} />
            </>
          )}
        </Box>
      )}
    </Box>
  )
}
