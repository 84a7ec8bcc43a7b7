import Link from '@mui/material/Link'
import { Link as RouterLink, useLocation } from 'react-router'
import { Heading } from '../../parts/Heading'
import { Quiet, Stack } from '../../parts/Panel'

/** Nowhere is shown for an address that has no page. */
export function Nowhere() {
  const { pathname } = useLocation()
  return (
    <Stack>
      <Heading title="There is no such page" tab="No such page" />
      <Quiet>
        There is no page <bdi>{pathname}</bdi>.
      </Quiet>
      <Link component={RouterLink} to="/">
        Go to the overview
      </Link>
    </Stack>
  )
}
