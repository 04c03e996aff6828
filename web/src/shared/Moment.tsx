import { AdapterDayjs } from "@mui/x-date-pickers/AdapterDayjs";
import { DatePicker } from "@mui/x-date-pickers/DatePicker";
import { DateTimePicker } from "@mui/x-date-pickers/DateTimePicker";
import { LocalizationProvider } from "@mui/x-date-pickers/LocalizationProvider";
import { TimeField } from "@mui/x-date-pickers/TimeField";
import dayjs, { type Dayjs } from "dayjs";
import utc from "dayjs/plugin/utc";
import { DAY, MINUTE } from "./time";

dayjs.extend(utc);

/** Days and times are chosen here, and written alike whatever the browser's language: UTC, 24 hours, the day before the month. */
const DAYS = "DD MMM YYYY";
const TIMES = "HH:mm";

type Props<T> = {
  label: string;
  value: T | null;
  /** Null: it was emptied. */
  onChange: (value: T | null) => void;
  /** Within a sentence or a row: the label is only read out. */
  inline?: boolean;
};

function look(label: string, inline: boolean | undefined, width: number) {
  return {
    label: inline ? undefined : label,
    slotProps: {
      textField: {
        size: "small",
        variant: inline ? "standard" : "outlined",
        style: { width: inline ? width : undefined, verticalAlign: "baseline" },
        "aria-label": inline ? label : undefined,
      },
    },
  } as const;
}

/** Tells what was chosen once it is whole: a half-typed date isn't one yet. */
const told =
  <T,>(onChange: (value: T | null) => void, of: (d: Dayjs) => T) =>
  (d: Dayjs | null) => {
    if (d === null) onChange(null);
    else if (d.isValid() && d.year() > 1900) onChange(of(d));
  };

/** An instant, in milliseconds since 1970. */
export function MomentPick({ label, value, onChange, inline }: Props<number>) {
  return (
    <LocalizationProvider dateAdapter={AdapterDayjs}>
      <DateTimePicker
        {...look(label, inline, 230)}
        timezone="UTC"
        ampm={false}
        format={`${DAYS} ${TIMES}`}
        value={value === null ? null : dayjs.utc(value)}
        onChange={told(onChange, (d) => d.valueOf())}
      />
    </LocalizationProvider>
  );
}

/** A day, counted from 1 January 1970. */
export function DayPick({ label, value, onChange, inline }: Props<number>) {
  return (
    <LocalizationProvider dateAdapter={AdapterDayjs}>
      <DatePicker
        {...look(label, inline, 160)}
        timezone="UTC"
        format={DAYS}
        value={value === null ? null : dayjs.utc(value * DAY)}
        onChange={told(onChange, (d) => Math.floor(d.valueOf() / DAY))}
      />
    </LocalizationProvider>
  );
}

/** A minute of the day. */
export function MinutePick({ label, value, onChange, inline }: Props<number>) {
  return (
    <LocalizationProvider dateAdapter={AdapterDayjs}>
      <TimeField
        {...look(label, inline, 54)}
        timezone="UTC"
        ampm={false}
        format={TIMES}
        value={value === null ? null : dayjs.utc(value * MINUTE)}
        onChange={told(onChange, (d) => d.hour() * 60 + d.minute())}
      />
    </LocalizationProvider>
  );
}
