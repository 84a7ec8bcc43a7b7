import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField, { type TextFieldProps } from '@mui/material/TextField'
import { useId, type ReactNode } from 'react'
import { Controller, useFormContext } from 'react-hook-form'

type Props = Pick<
  TextFieldProps,
  'autoFocus' | 'multiline' | 'minRows' | 'maxRows' | 'sx' | 'disabled' | 'required'
> & {
  name: string
  label: string
  help?: ReactNode
  type?: 'text' | 'password' | 'number' | 'date' | 'datetime-local'
  complete?: string // what the browser may fill in
}

/** Field is a line or a paragraph of text in a form; what is wrong with it stands below it. */
export function Field({ name, label, help, type = 'text', complete = 'off', ...more }: Props) {
  const id = useId()
  return (
    <Controller
      name={name}
      defaultValue=""
      render={({ field, fieldState: { error } }) => (
        <TextField
          {...more}
          {...field}
          id={id}
          value={(field.value as string | undefined) ?? ''}
          inputRef={field.ref}
          size="small"
          type={type}
          label={label}
          autoComplete={complete}
          error={Boolean(error)}
          helperText={error?.message ?? help}
          slotProps={{
            htmlInput: { 'data-field': name, spellCheck: false },
            ...(type.startsWith('date') && { inputLabel: { shrink: true } }),
          }}
        />
      )}
    />
  )
}

export type Option = { value: string; label: ReactNode; off?: boolean }

/** Choice is one of several. */
export function Choice({
  name,
  label,
  help,
  options,
  sx,
}: {
  name: string
  label: string
  help?: ReactNode
  options: Option[]
  sx?: TextFieldProps['sx']
}) {
  const id = useId()
  return (
    <Controller
      name={name}
      defaultValue=""
      render={({ field, fieldState: { error } }) => {
        const value = (field.value as string | undefined) ?? ''
        return (
          <TextField
            {...field}
            id={id}
            value={value}
            inputRef={field.ref}
            select
            size="small"
            label={label}
            error={Boolean(error)}
            helperText={error?.message ?? help}
            sx={sx}
            slotProps={{
              select: { displayEmpty: true },
              inputLabel: { shrink: true },
              htmlInput: { 'data-field': name },
            }}
          >
            {!options.some((o) => o.value === value) && <MenuItem value={value}>{value}</MenuItem>}
            {options.map((o) => (
              <MenuItem key={o.value} value={o.value} disabled={o.off ?? false}>
                {o.label}
              </MenuItem>
            ))}
          </TextField>
        )
      }}
    />
  )
}

/** Tick is yes or no. */
export function Tick({ name, label }: { name: string; label: ReactNode }) {
  const { control } = useFormContext()
  return (
    <Controller
      name={name}
      control={control}
      render={({ field }) => (
        <FormControlLabel
          label={label}
          control={
            <Checkbox
              size="small"
              checked={Boolean(field.value)}
              onChange={(e) => field.onChange(e.target.checked)}
              onBlur={field.onBlur}
              slotProps={{ input: { ref: field.ref } }}
            />
          }
        />
      )}
    />
  )
}
