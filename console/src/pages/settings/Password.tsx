import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useId, useState } from 'react'
import { useNavigate } from 'react-router'
import * as v from 'valibot'
import { api, take } from '../../api/client'
import { queryClient } from '../../api/queries'
import { Confirm } from '../../parts/Confirm'
import { Field } from '../../parts/form/Field'
import { Form } from '../../parts/form/Form'
import { FieldGrid, Panel } from '../../parts/Panel'
import { command } from '../../parts/command'

const schema = v.object({
  old: v.pipe(v.string(), v.nonEmpty('Old password is needed.')),
  new: v.pipe(v.string(), v.minLength(10, 'New password has at least 10 characters.')),
})

/** Password changes one's own password, or ends all of one's sessions. */
export function Password() {
  const id = useId()
  const navigate = useNavigate()
  const [sure, setSure] = useState(false)
  const out = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/sessions')),
    onSuccess: () => {
      queryClient.clear()
      void navigate('/sign-in')
    },
  })
  return (
    <Panel title="Your password">
      <Form
        id={id}
        label="Change your password"
        schema={schema}
        start={{ old: '', new: '' }}
        again
        submit="Change it"
        said="Password changed. Your other sessions have ended."
        of="session"
        command={() => command('user', 'password')}
        send={(x) => take(api.POST('/api/v1/password', { body: x }))}
      >
        <FieldGrid>
          <Field name="old" label="Old password" type="password" complete="current-password" />
          <Field name="new" label="New password" type="password" complete="new-password" />
        </FieldGrid>
      </Form>
      <Box sx={{ mt: 2 }}>
        <Button variant="outlined" color="error" onClick={() => setSure(true)}>
          Sign out everywhere
        </Button>
      </Box>
      {sure && (
        <Confirm
          question="Sign out everywhere?"
          yes="Sign out"
          pending={out.isPending}
          error={out.error}
          act={() => out.mutate()}
          close={() => setSure(false)}
        >
          <Typography>All of your sessions end, this one too, and so do your tokens for the client.</Typography>
        </Confirm>
      )}
    </Panel>
  )
}
