package wire

import "time"

func timeOf(ms int64) time.Time { return time.UnixMilli(ms).UTC() }
