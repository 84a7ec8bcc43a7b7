import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Task } from '../../api/client'
import { sessionQuery, tasksQuery, useChange } from '../../api/queries'
import { mono } from '../../app/theme'
import { Foreign } from '../../parts/Foreign'
import { useMay } from '../../parts/May'
import { Panel, Quiet } from '../../parts/Panel'
import { Copy } from '../../parts/Print'
import { Problem } from '../../parts/Problem'
import { When } from '../../parts/When'
import { AsCommand } from '../../parts/AsCommand'
import { command } from '../../parts/command'

/** GuidedStep leads a person through a step by hand: what to do, what to copy, what to carry, what to give back. */
export function GuidedStep({ replacement }: { replacement: string }) {
  const tasks = useQuery(tasksQuery(replacement))
  if (tasks.error && !tasks.data) return <Problem error={tasks.error} />
  const task = tasks.data?.[0]
  return task ? <Guide key={task.id} t={task} /> : null
}

function Guide({ t }: { t: Task }) {
  const me = useQuery(sessionQuery)
  const [text, setText] = useState('')
  const path = { params: { path: { id: t.id } } }
  const operator = useMay('operator')
  const answer = useChange({
    of: 'tasks',
    do: () => take(api.POST('/api/v1/tasks/{id}/answer', { ...path, body: { text } })),
  })
  const takeOver = useChange({ of: 'tasks', do: () => take(api.POST('/api/v1/tasks/{id}/take', path)) })
  const another = t.taken_by !== '' && t.taken_by !== me.data?.user
  return (
    <Panel
      title={`By hand: ${t.name}`}
      action={
        !operator ? (
          <Quiet>doing it needs the role operator</Quiet>
        ) : t.taken_by === me.data?.user ? (
          <Typography sx={{ color: 'text.secondary' }}>Assigned to you</Typography>
        ) : (
          <Button size="small" variant="outlined" disabled={takeOver.isPending} onClick={() => takeOver.mutate()}>
            {another ? `Take it over from ${t.taken_by}` : 'Assign to me'}
          </Button>
        )
      }
    >
      <Box sx={{ display: 'grid', gap: 2 }}>
        <Typography sx={{ whiteSpace: 'pre-line', maxWidth: 820 }}>
          <bdi>{linked(t.text)}</bdi>
        </Typography>
        {t.copy.length > 0 && (
          <Box
            sx={{
              display: 'grid',
              gridTemplateColumns: { xs: 'minmax(0, 1fr)', sm: 'max-content minmax(0, 1fr) max-content' },
              columnGap: 2,
              rowGap: 0.5,
              alignItems: 'center',
            }}
          >
            {t.copy.map((c) => (
              <Value key={c.label} label={c.label} text={c.text} />
            ))}
          </Box>
        )}
        {t.files.length > 0 && (
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
            {t.files.map((f) => (
              <Button
                key={f.name}
                component={Link}
                underline="none"
                variant="outlined"
                href={`/api/v1/tasks/${t.id}/files/${f.name}`}
                download={f.name}
              >
                {f.name}, {f.secret ? 'a private key' : `${f.size ?? 0} bytes`}
              </Button>
            ))}
          </Box>
        )}
        {t.key && (
          <Quiet>
            {text ? 'The key is read. ' : `Give back ${t.ask ?? ''} as a file. `}It is sealed, and forgotten once the
            device serves the certificate.
          </Quiet>
        )}
        {t.ask && !t.key && (
          <TextField
            id="task-answer"
            label={`Give back ${t.ask}`}
            multiline
            minRows={5}
            maxRows={16}
            value={text}
            onChange={(e) => setText(e.target.value)}
            slotProps={{ htmlInput: { style: { fontFamily: mono, fontSize: 12 } } }}
          />
        )}
        {t.ask && (
          <Button component="label" size="small" sx={{ justifySelf: 'start' }}>
            Read it from a file
            <input
              type="file"
              hidden
              aria-label="Read the result from a file"
              onChange={(e) => void readFile(e.target.files?.[0]).then(setText)}
            />
          </Button>
        )}
        {t.seen && (
          <Alert severity="info" variant="outlined">
            This step ends by itself when the {t.seen === 'new' ? 'new' : 'old'} certificate is seen.
          </Alert>
        )}
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button
            variant="contained"
            disabled={!operator || answer.isPending || another || (Boolean(t.ask) && !text.trim())}
            onClick={() => answer.mutate()}
          >
            {answer.isPending ? 'Looking…' : t.ask ? 'Submit' : t.seen ? 'Look now' : 'Done'}
          </Button>
          <Typography sx={{ color: 'text.secondary' }}>
            until <When at={t.due_at} />
          </Typography>
        </Box>
        {operator && (
          <AsCommand
            command={[
              ...(t.taken_by === me.data?.user ? [] : [command('task', 'take', t.id)]),
              command('task', 'answer', t.id, ...(t.ask ? ['--file', 'FILE'] : [])),
            ].join(' && ')}
          />
        )}
        {(answer.error ?? takeOver.error) && <Problem error={answer.error ?? takeOver.error} />}
        <Notes t={t} />
      </Box>
    </Panel>
  )
}

/** readFile gives the text of a file; of one that is no text, such as a request in DER, its base64. */
async function readFile(file: File | undefined) {
  if (!file || file.size > 64 * 1024) return ''
  const bytes = new Uint8Array(await file.arrayBuffer())
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes)
  } catch {
    return btoa(String.fromCharCode(...bytes))
  }
}

/** linked makes the addresses in a text ones that can be followed. */
function linked(text: string) {
  return text.split(/(https:\/\/[^\s]+)/).map((part, i) =>
    part.startsWith('https://') ? (
      <Link key={i} href={part} target="_blank" rel="noreferrer">
        {part}
      </Link>
    ) : (
      part
    ),
  )
}

function Value({ label, text }: { label: string; text: string }) {
  return (
    <>
      <Typography sx={{ color: 'text.secondary' }}>{label}</Typography>
      <Typography sx={{ fontFamily: mono, fontSize: 13, overflowWrap: 'anywhere' }}>
        <Foreign>{text}</Foreign>
      </Typography>
      <Box sx={{ justifySelf: 'start' }}>
        <Copy text={text} what={label} />
      </Box>
    </>
  )
}

function Notes({ t }: { t: Task }) {
  const [text, setText] = useState('')
  const operator = useMay('operator')
  const note = useChange({
    of: 'tasks',
    do: () => take(api.POST('/api/v1/tasks/{id}/notes', { params: { path: { id: t.id } }, body: { text } })),
    done: () => setText(''),
  })
  return (
    <Box>
      {t.notes.map((n) => (
        <Typography key={n.at} variant="body2">
          <strong>
            <bdi>{n.by}</bdi>
          </strong>
          , <When at={n.at} />: <Foreign>{n.text}</Foreign>
        </Typography>
      ))}
      {operator && (
        <Box
          component="form"
          aria-label="Write a note"
          onSubmit={(e) => {
            e.preventDefault()
            note.mutate()
          }}
          sx={{ display: 'flex', gap: 1, pt: 1 }}
        >
          <TextField
            id="task-note"
            size="small"
            label="Note"
            value={text}
            onChange={(e) => setText(e.target.value)}
            fullWidth
          />
          <Button type="submit" variant="outlined" disabled={!text.trim() || note.isPending}>
            Add note
          </Button>
        </Box>
      )}
      {note.error && <Problem error={note.error} />}
    </Box>
  )
}
