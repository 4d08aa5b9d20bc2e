package storage

import "time"

// Alert is something out of the ordinary that a person should look at.
type Alert struct {
	ID            int64
	At            time.Time
	Kind          string
	Actor         string
	Network       string // address that it came from
	OnProject     string
	OnEnvironment string
	What          string
	Lane          string // of the event that gave rise to it
	Seq           int64
	SeenBy        string
	SeenAt        *time.Time
}

// Channel is where alerts are sent.
type Channel struct {
	ID        int64
	Kind      string // webhook, mail
	Target    string // a mail address, or the host of a webhook
	Sealed    []byte // a webhook's whole address
	CreatedAt time.Time
}

// Delivery is an alert on its way to a channel.
type Delivery struct {
	AlertID   int64 `gorm:"primaryKey;autoIncrement:false"`
	ChannelID int64 `gorm:"primaryKey;autoIncrement:false"`
	Tries     int
	NextAt    *time.Time // nil: no more
	DoneAt    *time.Time
	Problem   string
}

// Decoy is what nobody needs: a name in a layer, or a workload.
type Decoy struct {
	ID         int64
	LayerID    int64
	Name       string
	WorkloadID int64
	CreatedAt  time.Time
}

// Baselines reads what was ordinary for identities so far, as JSON.
func (tx *Tx) Baselines(actors []string) (map[string][]byte, error) {
	var all []struct {
		Actor   string
		Content string
	}
	err := tx.db.Raw("SELECT actor, content::text AS content FROM baselines WHERE actor IN ?", actors).Scan(&all).Error
	out := make(map[string][]byte, len(all))
	for _, b := range all {
		out[b.Actor] = []byte(b.Content)
	}
	return out, classify(err)
}

// SaveBaseline writes what is ordinary for an identity, and forgets those of whom
// nothing was seen for half a year.
func (tx *Tx) SaveBaseline(actor string, content []byte, at time.Time) error {
	return classify(tx.db.Exec(`INSERT INTO baselines (actor, content, at) VALUES (?, ?::jsonb, ?)
		ON CONFLICT (actor) DO UPDATE SET content = excluded.content, at = excluded.at`, actor, string(content), at).Error)
}

// ForgetBaselines forgets those of whom nothing was seen since a moment.
func (tx *Tx) ForgetBaselines(before time.Time) error {
	return classify(tx.db.Exec("DELETE FROM baselines WHERE at < ?", before).Error)
}

// CreateAlert writes an alert, and that it is to be sent to every channel.
func (tx *Tx) CreateAlert(a Alert, now time.Time) (Alert, error) {
	if err := tx.db.Create(&a).Error; err != nil {
		return a, classify(err)
	}
	return a, classify(tx.db.Exec("INSERT INTO deliveries (alert_id, channel_id, next_at) SELECT ?, id, ? FROM channels", a.ID, now).Error)
}

// CreateDelivery lets an alert be sent to one channel.
func (tx *Tx) CreateDelivery(d Delivery) error { return classify(tx.db.Create(&d).Error) }

// Alerts reads alerts, newest first, from below an id (0: from the newest); with
// open, those that nobody has looked at.
func (tx *Tx) Alerts(below int64, open bool, limit int) ([]Alert, error) {
	query := tx.db.Order("id DESC").Limit(limit)
	if below > 0 {
		query = query.Where("id < ?", below)
	}
	if open {
		query = query.Where("seen_at IS NULL")
	}
	var all []Alert
	return all, classify(query.Find(&all).Error)
}

// AlertByID reads an alert.
func (tx *Tx) AlertByID(id int64) (a Alert, err error) {
	return a, classify(tx.db.Where("id = ?", id).Take(&a).Error)
}

// SeeAlert notes that somebody has looked at an alert; it tells whether it was there
// and open.
func (tx *Tx) SeeAlert(id int64, by string, at time.Time) (bool, error) {
	done := tx.db.Exec("UPDATE alerts SET seen_by = ?, seen_at = ? WHERE id = ? AND seen_at IS NULL", by, at, id)
	return done.RowsAffected == 1, classify(done.Error)
}

// Channels reads where alerts are sent.
func (tx *Tx) Channels() ([]Channel, error) {
	var all []Channel
	return all, classify(tx.db.Order("id").Find(&all).Error)
}

// Deliveries reads how the newest alerts went out to channels.
func (tx *Tx) Deliveries(limit int) ([]Delivery, error) {
	var all []Delivery
	return all, classify(tx.db.Order("alert_id DESC, channel_id").Limit(limit).Find(&all).Error)
}

// CreateChannel writes a channel and returns it with its id.
func (tx *Tx) CreateChannel(c Channel) (Channel, error) {
	err := tx.db.Create(&c).Error
	return c, classify(err)
}

// DeleteChannel deletes a channel; it tells whether it was there.
func (tx *Tx) DeleteChannel(id int64) (bool, error) {
	done := tx.db.Exec("DELETE FROM channels WHERE id = ?", id)
	return done.RowsAffected == 1, classify(done.Error)
}

// DueDelivery takes a delivery that is due, and keeps other instances from it; one
// of no alert where there is none. It counts as tried from now on.
func (tx *Tx) DueDelivery(now, next time.Time) (d Delivery, err error) {
	var all []Delivery
	err = tx.db.Raw(`UPDATE deliveries SET tries = tries + 1, next_at = ? WHERE (alert_id, channel_id) = (SELECT alert_id, channel_id FROM deliveries
		WHERE done_at IS NULL AND next_at <= ? ORDER BY next_at LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *`, next, now).Scan(&all).Error
	if err != nil || len(all) == 0 {
		return d, classify(err)
	}
	return all[0], nil
}

// SaveDelivery writes how a delivery went.
func (tx *Tx) SaveDelivery(d Delivery) error {
	return classify(tx.db.Model(&Delivery{}).Where("alert_id = ? AND channel_id = ?", d.AlertID, d.ChannelID).
		Updates(map[string]any{"next_at": d.NextAt, "done_at": d.DoneAt, "problem": d.Problem}).Error)
}

// CreateDecoy writes a decoy and returns it with its id.
func (tx *Tx) CreateDecoy(d Decoy) (Decoy, error) {
	err := tx.db.Create(&d).Error
	return d, classify(err)
}

// DeleteDecoy deletes a decoy.
func (tx *Tx) DeleteDecoy(id int64) error {
	return classify(tx.db.Where("id = ?", id).Delete(&Decoy{}).Error)
}
