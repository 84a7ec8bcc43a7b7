import Box from '@mui/material/Box'
import { useTheme } from '@mui/material/styles'
import { BarPlot, type BarElementSlots } from '@mui/x-charts/BarChart'
import { ChartsAxisHighlight } from '@mui/x-charts/ChartsAxisHighlight'
import { ChartsContainer } from '@mui/x-charts/ChartsContainer'
import { ChartsGrid } from '@mui/x-charts/ChartsGrid'
import { ChartsTooltip } from '@mui/x-charts/ChartsTooltip'
import { ChartsXAxis } from '@mui/x-charts/ChartsXAxis'
import { ChartsYAxis } from '@mui/x-charts/ChartsYAxis'
import { LinePlot } from '@mui/x-charts/LineChart'
import { useMemo } from 'react'
import { Link } from 'react-router'

/** Layer is one measure of all bars. Layers are stacked, the first at the bottom. */
export type Layer = { name: string; color: string; hollow?: boolean; values: number[] }

type Drawn = { says: string; to?: string }

type Props = {
  about: string // what is drawn, for those who do not see it
  labels: string[] // below the bars
  titles?: string[] // above the values of a bar that is pointed at
  layers: Layer[]
  line?: { name: string; values: number[] } // a second measure, drawn across the bars
  piece: (bar: number, layer: number) => Drawn // what a piece of a bar is, and where it leads
  height: number
  widthOfBar?: number // at least; then the chart scrolls sideways
}

/**
 * Bars draws a bar chart whose pieces have names and may be links, and gives them as a list for keys and screen
 * readers. Colours are names of the theme, such as primary.main.
 */
export function Bars({ about, labels, titles, layers, line, piece, height, widthOfBar = 20 }: Props) {
  const palette = useTheme().palette
  const slots = useMemo(() => ({ bar: drawn(layers, piece) }), [layers, piece])
  return (
    <>
      <Box sx={{ overflowX: 'auto' }} tabIndex={0} role="region" aria-label={about}>
        <Box sx={{ minWidth: labels.length * widthOfBar, height }}>
          <ChartsContainer
            height={height}
            skipAnimation
            margin={{ left: 0, right: 8, top: 12, bottom: 0 }}
            series={[
              ...layers.map((l, i) => ({
                id: String(i),
                type: 'bar' as const,
                stack: 'all',
                label: l.name,
                data: l.values,
                color: colorOf(palette, l.color),
                ...(labels.length <= 16 &&
                  layers.length === 1 && {
                    barLabelPlacement: 'outside' as const,
                    barLabel: (item: { value: number | null }) => (item.value ? String(item.value) : null),
                  }),
                valueFormatter: (n: number | null) => (n ? String(n) : null),
              })),
              ...(line
                ? [
                    {
                      id: 'line',
                      type: 'line' as const,
                      label: line.name,
                      data: line.values,
                      color: palette.text.primary,
                      curve: 'step' as const,
                    },
                  ]
                : []),
            ]}
            xAxis={[
              {
                id: 'x',
                scaleType: 'band',
                data: labels.map((_, i) => i),
                valueFormatter: (i: number, context) =>
                  (context.location === 'tooltip' ? (titles ?? labels)[i] : labels[i]) ?? '',
              },
            ]}
            yAxis={[{ id: 'y', width: 36, tickMinStep: 1 }]}
          >
            <ChartsGrid horizontal />
            <BarPlot slots={slots} />
            {line && <LinePlot slotProps={{ line: { strokeDasharray: '3 3' } }} />}
            <ChartsAxisHighlight x="band" />
            <ChartsXAxis axisId="x" />
            <ChartsYAxis axisId="y" />
            <ChartsTooltip trigger="axis" />
          </ChartsContainer>
        </Box>
      </Box>
      <Box component="details" className="no-print" sx={{ color: 'text.secondary' }}>
        <summary>As a list</summary>
        <Box component="ul" aria-label={`${about}, as a list`} sx={{ columns: '300px', m: 0 }}>
          {labels.flatMap((_, i) =>
            layers.map((l, j) => (l.values[i] ? <Piece key={`${i}/${j}`} {...piece(i, j)} /> : null)),
          )}
        </Box>
      </Box>
    </>
  )
}

function Piece({ to, says }: Drawn) {
  return <li>{to ? <Link to={to}>{says}</Link> : says}</li>
}

/** drawn draws one piece of a bar under its name, as a link where it leads somewhere. */
function drawn(layers: Layer[], piece: Props['piece']): NonNullable<BarElementSlots['bar']> {
  return function Bar({ x, y, width, height, color, seriesId, dataIndex }) {
    const layer = layers[Number(seriesId)]
    if (!layer?.values[dataIndex]) return null
    const { to, says } = piece(dataIndex, Number(seriesId))
    const bar = (
      <rect
        x={x}
        y={y}
        width={width}
        height={height}
        fill={layer.hollow ? 'transparent' : color}
        stroke={color}
        strokeWidth={layer.hollow ? 1.5 : 0}
      >
        <title>{says}</title>
      </rect>
    )
    return to ? (
      <Link to={to} tabIndex={-1}>
        {bar}
      </Link>
    ) : (
      bar
    )
  }
}

function colorOf(palette: object, name: string): string {
  const found = name
    .split('.')
    .reduce<unknown>((at, key) => (at as Record<string, unknown> | undefined)?.[key], palette)
  return typeof found === 'string' ? found : 'currentColor'
}
