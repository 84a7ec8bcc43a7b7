import { standardSchemaResolver } from '@hookform/resolvers/standard-schema'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import { useMutation } from '@tanstack/react-query'
import { useEffect, useState, type ReactNode } from 'react'
import {
  FormProvider,
  useForm,
  useFormContext,
  type DefaultValues,
  type FieldValues,
  type Path,
  type PathValue,
} from 'react-hook-form'
import type { GenericSchema } from 'valibot'
import { ApiError } from '../../api/client'
import type { Noun } from '../../api/keys'
import { stale } from '../../api/queries'
import { AsCommand } from '../AsCommand'
import { say } from '../notice'
import { Problem } from '../Problem'
import { Conflict, type Guard } from './Conflict'
import { fieldOf } from './errors'

export type FormProps<T extends FieldValues, Out> = {
  id: string
  label?: string
  schema: GenericSchema<T, T>
  start: T
  submit: ReactNode | ((values: T) => ReactNode)
  send: (values: T, changed: Partial<T>) => Promise<Out>
  of: Noun
  said?: string // when it is done; default: "Saved"
  done?: (out: Out) => void
  command?: (values: T, changed: Partial<T>) => string // that does the same
  guard?: Guard<T> // where somebody else may change the same thing meanwhile
  always?: boolean // may be sent although nothing was changed
  again?: boolean // begins anew when it was sent
  onDirty?: (dirty: boolean) => void
  layout?: (fields: ReactNode, submit: ReactNode) => ReactNode
  children: ReactNode
}

/** Form keeps what is typed until it was sent, shows what is wrong at its field, and is sent by Enter. */
export function Form<T extends FieldValues, Out>(p: FormProps<T, Out>) {
  const form = useForm<T>({
    resolver: standardSchemaResolver(p.schema),
    defaultValues: p.start as DefaultValues<T>,
    mode: 'onTouched',
  })
  const { isDirty, dirtyFields } = form.formState
  const { onDirty } = p
  useEffect(() => onDirty?.(isDirty), [isDirty, onDirty])
  const [conflict, setConflict] = useState<{ base: T; theirs: T }>()
  const [base, setBase] = useState(p.start)
  const changedOf = (values: T) =>
    Object.fromEntries(Object.keys(dirtyFields).map((name) => [name, values[name]])) as Partial<T>
  const send = useMutation<Out, Error, T>({
    mutationFn: (values) => p.send(values, changedOf(values)),
    onSuccess: (out, values) => {
      say(p.said ?? 'Saved')
      setConflict(undefined)
      form.reset(p.again ? p.start : values)
      setBase(values)
      void stale(p.of)
      p.done?.(out)
    },
    onError: async (error) => {
      if (error instanceof ApiError && error.status === 412 && p.guard) {
        try {
          setConflict({ base, theirs: await p.guard.look() })
        } catch {
          // the problem of the change itself is shown
        }
        return
      }
      const field = fieldOf(error, Object.keys(p.start))
      if (field)
        form.setError(
          field as Path<T>,
          { type: 'service', message: error instanceof ApiError ? (error.detail ?? error.title) : error.message },
          { shouldFocus: true },
        )
    },
  })
  const values = form.watch()
  const fields = (
    <>
      {p.children}
      {p.command && <AsCommand command={p.command(values, changedOf(values))} />}
      {conflict && p.guard ? (
        <Conflict
          labels={p.guard.labels}
          base={conflict.base}
          theirs={conflict.theirs}
          mine={values}
          take={(merged) => {
            setBase(conflict.theirs)
            form.reset(conflict.theirs, { keepValues: false })
            for (const [name, value] of Object.entries(merged))
              form.setValue(name as Path<T>, value as PathValue<T, Path<T>>, { shouldDirty: true })
            setConflict(undefined)
            send.reset()
          }}
        />
      ) : (
        send.error && <Problem error={send.error} />
      )}
    </>
  )
  const submit = (
    <Button type="submit" variant="contained" disabled={send.isPending || Boolean(conflict) || (!isDirty && !p.always)}>
      {typeof p.submit === 'function' ? p.submit(values) : p.submit}
    </Button>
  )
  return (
    <FormProvider {...form}>
      <Box
        component="form"
        id={p.id}
        aria-label={p.label}
        noValidate
        onSubmit={(e) => void form.handleSubmit((v) => send.mutate(v))(e)}
        sx={{ display: 'contents' }}
      >
        {p.layout ? (
          p.layout(fields, submit)
        ) : (
          <Box sx={{ display: 'grid', gap: 1.5 }}>
            {fields}
            <Box>{submit}</Box>
          </Box>
        )}
      </Box>
    </FormProvider>
  )
}

/** useTyped is what stands in the form around, as it is typed. */
export function useTyped<T extends FieldValues>(): T {
  return useFormContext<T>().watch()
}
