import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useId } from 'react'
import * as v from 'valibot'
import { api, take, type Schemas } from '../../api/client'
import { auditStreamQuery, channelsQuery } from '../../api/queries'
import { Choice } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { Foreign } from '../../parts/Foreign'
import { Loaded } from '../../parts/Loaded'
import { FieldGrid, Panel, Quiet } from '../../parts/Panel'
import { When } from '../../parts/When'
import { command } from '../../parts/command'
import { number } from '../../parts/words'

/** SentOn is where the audit log is sent to as it grows, how far it is, and why not further. */
export function SentOn() {
  const stream = useQuery(auditStreamQuery)
  const channels = useQuery(channelsQuery)
  return (
    <Panel title="Sent on">
      <Loaded query={stream}>
        {(s) => (
          <Loaded query={channels}>
            {(list) => <Set key={`${s.channel}/${s.head_channel}`} stream={s} channels={list} />}
          </Loaded>
        )}
      </Loaded>
    </Panel>
  )
}

const nobody = { value: '', label: 'nobody' }

function Set({ stream: s, channels }: { stream: Schemas['AuditStream']; channels: Schemas['Channel'][] }) {
  const id = useId()
  const logs = channels.filter((c) => c.kind === 'syslog')
  return (
    <>
      {s.channel && (
        <Typography role="status" sx={{ mb: 2 }}>
          {number(s.sent)} of {number(s.newest)} entries were sent to <bdi>{s.channel}</bdi>
          {s.sent_at && (
            <>
              , the last <When at={s.sent_at} />
            </>
          )}
          .
        </Typography>
      )}
      {s.error && (
        <Typography sx={{ mb: 2, color: 'error.main' }}>
          The last try failed: <Foreign>{s.error}</Foreign>. It is tried again.
        </Typography>
      )}
      {logs.length === 0 && <Quiet>Set up a channel of syslog among the notices first.</Quiet>}
      <Form
        id={id}
        label="Send the audit log on"
        schema={v.object({ channel: v.string(), head_channel: v.string() })}
        start={{ channel: s.channel, head_channel: s.head_channel }}
        submit="Save"
        of="auditStream"
        command={(x) =>
          command('audit', 'stream', '--to', x.channel || 'nobody', '--head-to', x.head_channel || 'nobody')
        }
        send={(x) => take(api.PUT('/api/v1/audit/stream', { body: x }))}
      >
        <FieldGrid>
          <Choice
            name="channel"
            label="Every entry to"
            options={[nobody, ...logs.map((c) => ({ value: c.name, label: c.name }))]}
          />
          <Choice
            name="head_channel"
            label="The newest entry, each day, to"
            options={[nobody, ...channels.map((c) => ({ value: c.name, label: c.name }))]}
          />
        </FieldGrid>
      </Form>
    </>
  )
}
