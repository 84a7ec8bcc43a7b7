import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { expiriesQuery, expiringQuery } from '../../api/queries'
import { Heading } from '../../parts/Heading'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet, Row, Stack } from '../../parts/Panel'
import { day, days, some } from '../../parts/words'
import { Forecast } from './Forecast'
import { HeatMap } from './HeatMap'
import { Timeline } from './Timeline'

const kinds = {
  intermediate: 'intermediate',
  root: 'root',
  domain: 'validation of a domain',
  token: 'token',
  calendar: 'calendar',
  order: 'order at a signer',
}

/** Ahead shows what is to come: what expires when and where, and how much work that is. */
export function Ahead() {
  const expiries = useQuery(expiriesQuery)
  const else_ = useQuery(expiringQuery)
  return (
    <Stack>
      <Heading title="Forecast" tab="Forecast">
        <Button variant="outlined" component={RouterLink} to="/calendar">
          Calendar
        </Button>
        {['state', 'replaced', 'exceptions'].map((kind) => (
          <Button key={kind} variant="outlined" component="a" href={`/api/v1/reports/${kind}?form=xlsx`} download>
            Report: {kind}
          </Button>
        ))}
      </Heading>
      <Panel title="Certificates by the month in which they expire">
        <Loaded query={expiries} height={260}>
          {(e) => <Timeline months={e.months} />}
        </Loaded>
      </Panel>
      <Panel title="Sites, by week">
        <Loaded query={expiries} height={200}>
          {(e) => <HeatMap of={e} />}
        </Loaded>
      </Panel>
      <Forecast />
      <Panel title="What else expires">
        <Loaded query={else_}>
          {(all) => (
            <>
              {all.length === 0 && <Quiet>Nothing else expires within ten years.</Quiet>}
              {all.slice(0, 50).map((e) => (
                <Row key={`${e.kind} ${e.name} ${e.sha256 ?? e.ends_at}`}>
                  <span>{day(e.ends_at)}</span>
                  <span>
                    {kinds[e.kind]}{' '}
                    {e.sha256 ? (
                      <Link component={RouterLink} to={`/slots?serves=${e.sha256}`}>
                        <bdi>{e.name}</bdi>
                      </Link>
                    ) : (
                      <bdi>{e.name}</bdi>
                    )}
                  </span>
                  <Quiet>
                    {days(e.days)}
                    {e.slots > 0 && `, on the path of ${some(e.slots, 'slot')}`}
                    {e.of && `, ${e.of}`}
                  </Quiet>
                </Row>
              ))}
            </>
          )}
        </Loaded>
      </Panel>
    </Stack>
  )
}
